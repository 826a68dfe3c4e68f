//! A single decision tree, grown and cut back.
//!
//! Grown leaf by leaf where the Gini impurity falls most (Breiman, Friedman,
//! Olshen & Stone 1984), with categories cut in two as they are, and cut back
//! where a branch does not earn its keep on rows that it was not grown on
//! (their cost-complexity pruning, chosen by cross-validation).

mod first_questions;
mod pruning;

use serde::{Deserialize, Serialize};

use super::setting::{CheckedSettings, Range, Setting, Tunable};
use super::trees::{Binned, Direction, Grower, GrowthLimits, Quantised, SplitLimits, Tree, TreeNode};
use super::{FitError, Target};
use crate::prepare::Design;
pub use first_questions::FirstQuestions;
use pronoia_data::Progress;
use pronoia_data::progress::ProgressPart;
use pronoia_data::split::folds;
use pruning::Pruning;

/// Parts that take turns in judging how far to cut back.
const FOLDS: usize = 5;

/// Rows at the overall rate that every leaf is taken to hold besides its own.
const PRIOR_ROWS: f64 = 2.0;

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct TreeSettings {
    /// Leaves at most, before cutting back.
    pub leaves: usize,
    /// Training rows in a leaf at least.
    pub rows_per_leaf: usize,
    /// Whether branches that do not hold on other rows are cut back.
    pub prune: bool,
}

impl Default for TreeSettings {
    fn default() -> Self {
        Self { leaves: 64, rows_per_leaf: 25, prune: true }
    }
}

impl Tunable for TreeSettings {
    const FAMILY: &'static str = "decision tree";
    const SETTINGS: &'static [Setting] = &[
        Setting::new("leaves", "Leaves at most", Range::Count(2, 2_048), "Before pruning."),
        Setting::new(
            "rows-per-leaf",
            "Rows per leaf",
            Range::Count(1, 1_000_000),
            "Smallest number of training rows in a leaf.",
        ),
        Setting::new(
            "prune",
            "Prune",
            Range::YesNo,
            "Removes branches that are not confirmed on rows the tree was not grown on.",
        ),
    ];
}

/// A fitted decision tree.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DecisionTree {
    /// The tree; its leaves say log-odds.
    pub tree: Tree,
    /// Weight of the training rows without and with the event, node by node.
    pub counts: Vec<[f64; 2]>,
    /// Leaves before it was cut back.
    pub grown: usize,
    /// What trees on other draws of the same rows ask first.
    pub first: FirstQuestions,
}

impl CheckedSettings<TreeSettings> {
    /// Fits to a design with its gaps.
    ///
    /// # Errors
    /// [`FitError::Cancelled`].
    pub fn fit(
        &self,
        design: &Design,
        target: &Target,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<DecisionTree, FitError> {
        progress.go_on()?;
        progress.tell("Growing the tree", 0.0);
        let grown = self.grown(design, target);
        let leaves = grown.tree.leaves();
        let mut pruned = grown;
        if self.prune {
            let penalty = self.penalty(&pruned, design, target, seed, &ProgressPart::of(progress, 0.2, 1.0))?;
            pruned = pruned.cut_back(penalty);
        }
        let first = self.first_questions(design, target, seed);
        Ok(pruned.finished(target.rate(), leaves, first))
    }

    /// How the tree is to be grown, up to so many leaves.
    fn growth(&self, leaves: usize, features: usize) -> GrowthLimits {
        let limits = SplitLimits {
            rows_per_leaf: self.rows_per_leaf,
            ridge: 0.0,
            rows_per_level: 5,
            level_smoothing: 10.0,
            level_ridge: 10.0,
            centred: true,
        };
        GrowthLimits { leaves, limits, directions: vec![Direction::Free; features], rate: 1.0 }
    }

    /// A tree as large as it may be, with what each of its nodes holds.
    fn grown(&self, design: &Design, target: &Target) -> Pruning {
        let binned = Binned::of(design);
        let growth = self.growth(self.leaves, binned.features());
        let mut quantised = Quantised::default();
        quantised.pack(&(0..target.rows()).map(|row| counted(target, row, 1.0)).collect::<Vec<_>>(), 0);
        let every: Vec<usize> = (0..binned.features()).collect();
        let tree = Grower::new(&binned, &growth).grow(&quantised, None, &every).tree;
        Pruning::of(tree, design, target)
    }

    /// What a leaf must earn, judged on rows that trees were not grown on.
    fn penalty(
        &self,
        whole: &Pruning,
        design: &Design,
        target: &Target,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<f64, FitError> {
        let penalties = whole.penalties();
        let real = &target.event[..target.real_rows()];
        let of_row = folds(real, FOLDS, seed);
        let mut losses = vec![0.0; penalties.len()];
        for fold in 0..FOLDS {
            progress.go_on()?;
            progress.tell("Choosing how far to prune", fold as f64 / FOLDS as f64);
            let judged: Vec<usize> = (0..real.len()).filter(|&row| of_row[row] == fold).collect();
            let fitted = target.rows_without(|row| of_row[row] == fold);
            let (part, learned) = (design.take(&fitted), target.take(&fitted));
            if learned.total(true) <= 0.0 || learned.total(false) <= 0.0 {
                continue;
            }
            let grown = self.grown(&part, &learned);
            grown.add_losses(&design.take(&judged), &target.take(&judged), learned.rate(), &penalties, &mut losses);
        }
        // The simplest of the best: penalties ascend.
        let best = (0..losses.len()).rev().min_by(|&a, &b| losses[a].total_cmp(&losses[b]));
        Ok(best.map_or(0.0, |at| penalties[at]))
    }
}

/// What a row that is drawn so often adds to a node: events, negative as gradients
/// are, and weight.
fn counted(target: &Target, row: usize, times: f32) -> [f32; 2] {
    let weight = target.weight(row) as f32 * times;
    [if target.event[row] { -weight } else { 0.0 }, weight]
}

/// Log-odds of a node that holds so many rows of either outcome.
fn log_odds([others, events]: [f64; 2], rate: f64) -> f64 {
    ((events + PRIOR_ROWS * rate) / (others + PRIOR_ROWS * (1.0 - rate))).ln()
}

impl DecisionTree {
    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        (0..design.rows()).map(|row| self.tree.value(design, row)).collect()
    }
}

impl Pruning {
    fn finished(mut self, rate: f64, grown: usize, first: FirstQuestions) -> DecisionTree {
        for (node, counts) in self.tree.nodes.iter_mut().zip(&self.counts) {
            if let TreeNode::Leaf { value, .. } = node {
                *value = log_odds(*counts, rate);
            }
        }
        DecisionTree { tree: self.tree, counts: self.counts, grown, first }
    }
}
