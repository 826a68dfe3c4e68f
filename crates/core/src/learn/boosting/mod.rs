//! Gradient-boosted trees on histograms.
//!
//! Each round fits a small regression tree to the gradient of the log loss
//! (Friedman 2001; second-order leaf values as in Friedman, Hastie &
//! Tibshirani 2000, "additive logistic regression"). Columns are cut into at
//! most 255 bins once, splits are sought among bins, and the histogram of the
//! larger child is its parent's less the smaller child's. Missing values go
//! to whichever side lowers the loss; categories are ordered by their mean
//! gradient before they are cut (Fisher 1958).

mod binning;
mod grower;
mod histogram;
mod loss;
mod splitting;
mod tree;

use serde::{Deserialize, Serialize};

use super::{FitError, Target, parse_setting};
use crate::Progress;
use crate::prepare::Design;
use crate::progress::Part;
use binning::Binned;
use grower::Grower;
pub use tree::{Cut, Node, Tree};

/// Rows held back from the trees while the number of rounds is chosen.
const HELD_BACK: usize = 7;

/// Rounds without improvement after which no more are tried.
const PATIENCE: usize = 30;

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct BoostedSettings {
    /// Trees at most, 1 to 5 000.
    pub trees: usize,
    /// Leaves per tree at most, 2 to 1 024.
    pub leaves: usize,
    /// Share of each tree's advice that is followed, above 0 to 1.
    pub learning_rate: f64,
    /// Training rows in a leaf at least.
    pub rows_per_leaf: usize,
    /// Ridge penalty on leaf values.
    pub ridge: f64,
    /// Whether the number of trees is chosen on rows held back from training.
    pub early_stopping: bool,
}

impl Default for BoostedSettings {
    fn default() -> Self {
        Self { trees: 400, leaves: 15, learning_rate: 0.06, rows_per_leaf: 30, ridge: 1.0, early_stopping: true }
    }
}

/// Settings that were checked.
#[derive(Debug, Clone)]
pub struct BoostedParams(BoostedSettings);

impl BoostedSettings {
    const KNOWN: &'static str = "trees, leaves, learning-rate, rows-per-leaf, ridge and early-stopping";

    /// Changes one setting by name.
    ///
    /// # Errors
    /// [`FitError`] if there is none of that name or the value is out of range.
    pub fn set(&mut self, name: &str, value: &str) -> Result<(), FitError> {
        match name {
            "trees" => self.trees = parse_setting("trees", "a whole number", value)?,
            "leaves" => self.leaves = parse_setting("leaves", "a whole number", value)?,
            "learning-rate" => self.learning_rate = parse_setting("learning-rate", "a number", value)?,
            "rows-per-leaf" => self.rows_per_leaf = parse_setting("rows-per-leaf", "a whole number", value)?,
            "ridge" => self.ridge = parse_setting("ridge", "a number", value)?,
            "early-stopping" => self.early_stopping = parse_setting("early-stopping", "true or false", value)?,
            _ => {
                return Err(FitError::UnknownSetting {
                    setting: name.into(),
                    family: "boosted trees",
                    known: Self::KNOWN,
                });
            }
        }
        self.check().map(|_| ())
    }

    /// Checks the ranges.
    ///
    /// # Errors
    /// [`FitError::Setting`] for the first setting out of range.
    pub fn check(&self) -> Result<BoostedParams, FitError> {
        let refuse = |setting, range, value: String| Err(FitError::Setting { setting, range, value });
        if !(1..=5_000).contains(&self.trees) {
            return refuse("trees", "from 1 to 5000", self.trees.to_string());
        }
        if !(2..=1_024).contains(&self.leaves) {
            return refuse("leaves", "from 2 to 1024", self.leaves.to_string());
        }
        if !(self.learning_rate > 0.0 && self.learning_rate <= 1.0) {
            return refuse("learning-rate", "above 0 and at most 1", self.learning_rate.to_string());
        }
        if self.rows_per_leaf == 0 {
            return refuse("rows-per-leaf", "1 or more", self.rows_per_leaf.to_string());
        }
        if !(self.ridge >= 0.0 && self.ridge.is_finite()) {
            return refuse("ridge", "0 or more", self.ridge.to_string());
        }
        Ok(BoostedParams(self.clone()))
    }
}

/// Fitted boosted trees.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Boosted {
    /// Log-odds before any tree.
    pub start: f64,
    /// The trees, in order; their leaf values already carry the learning rate.
    pub trees: Vec<Tree>,
    /// Mean log loss after each round: of the rows fitted to, and of the rows
    /// held back. Empty without early stopping.
    pub curve: Vec<(f64, f64)>,
}

impl BoostedParams {
    /// Fits; with early stopping first on six rows of seven to find the number
    /// of rounds, then on all of them.
    ///
    /// # Errors
    /// [`FitError::Cancelled`].
    pub fn fit(
        self,
        design: &Design,
        target: &Target,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Boosted, FitError> {
        let real = &target.event[..target.real_rows()];
        let small = real.iter().filter(|&&e| e).count() < 4 * HELD_BACK;
        if !self.0.early_stopping || small {
            let trees = if small { self.0.trees.min(50) } else { self.0.trees };
            return self.boost(design, target, trees, None, progress);
        }
        let back = held_back(real, seed);
        let watched: Vec<usize> = (0..real.len()).filter(|&row| back[row]).collect();
        // A synthetic row knows of both rows it was made from.
        let unseen = target.parents.iter().map(|[a, b]| !back[*a] && !back[*b]);
        let fitted = back.iter().map(|back| !back).chain(unseen);
        let fitted: Vec<usize> = fitted.enumerate().filter(|f| f.1).map(|f| f.0).collect();
        let trial = self.boost(
            &design.take(&fitted),
            &target.take(&fitted),
            self.0.trees,
            Some((&design.take(&watched), &watched_as_fitted(target, &watched))),
            &Part::of(progress, 0.0, 0.6),
        )?;
        let rounds = best_round(&trial.curve);
        let whole = self.boost(design, target, rounds, None, &Part::of(progress, 0.6, 1.0))?;
        Ok(Boosted { curve: trial.curve, ..whole })
    }

    fn boost(
        &self,
        design: &Design,
        target: &Target,
        rounds: usize,
        watched: Option<(&Design, &Target)>,
        progress: &dyn Progress,
    ) -> Result<Boosted, FitError> {
        let binned = Binned::of(design);
        let start = loss::start(target);
        let mut scores = vec![start; target.rows()];
        let mut watched_scores = watched.map(|(d, _)| vec![start; d.rows()]).unwrap_or_default();
        let mut grower = Grower::new(&binned, &self.0);
        let mut gradients = vec![[0.0f32; 2]; target.rows()];
        let mut trees = Vec::with_capacity(rounds);
        let mut curve: Vec<(f64, f64)> = Vec::new();
        for round in 1..=rounds {
            progress.go_on()?;
            loss::gradients(&scores, target, &mut gradients);
            let tree = grower.grow(&gradients, &mut scores);
            let mut words = format!("Tree {round} of {rounds}");
            if let Some((watched_design, watched_target)) = watched {
                tree.add_to(watched_design, &mut watched_scores);
                let point = (loss::mean(&scores, target), loss::mean(&watched_scores, watched_target));
                words = format!("Tree {round}, at most {rounds}; log loss {:.4} on rows held back", point.1);
                curve.push(point);
            }
            let is_stump = tree.nodes.len() == 1;
            trees.push(tree);
            progress.tell(&words, round as f64 / rounds as f64);
            if is_stump || (!curve.is_empty() && round >= best_round(&curve) + PATIENCE) {
                break;
            }
        }
        Ok(Boosted { start, trees, curve })
    }
}

impl Boosted {
    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut scores = vec![self.start; design.rows()];
        for tree in &self.trees {
            tree.add_to(design, &mut scores);
        }
        scores
    }
}

/// The rows held back, weighed so that events count among them as much as among
/// the rows fitted to, which may have been balanced.
fn watched_as_fitted(target: &Target, watched: &[usize]) -> Target {
    let mut held = target.take(watched);
    let scale = |event: bool| target.total(event) / held.total(event);
    let (events, others) = (scale(true), scale(false));
    if target.balanced {
        let weigh = |row: usize| held.weight(row) * if held.event[row] { events } else { others };
        held.weight = Some((0..held.rows()).map(weigh).collect());
    }
    held
}

/// One row in seven of either outcome, drawn by lot.
fn held_back(event: &[bool], seed: u64) -> Vec<bool> {
    use rand::SeedableRng;
    use rand::seq::SliceRandom;
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed ^ 0x0b00_57ed);
    let mut back = vec![false; event.len()];
    for side in [true, false] {
        let mut rows: Vec<usize> = (0..event.len()).filter(|&i| event[i] == side).collect();
        rows.shuffle(&mut rng);
        rows.iter().take(rows.len() / HELD_BACK).for_each(|&r| back[r] = true);
    }
    back
}

/// The round, counted from 1, with the least loss on rows held back.
fn best_round(curve: &[(f64, f64)]) -> usize {
    curve.iter().enumerate().min_by(|a, b| a.1.1.total_cmp(&b.1.1)).map_or(1, |(i, _)| i + 1)
}
