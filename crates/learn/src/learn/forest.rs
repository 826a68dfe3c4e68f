//! Random forest: many trees, each on other rows and choosing among other columns.
//!
//! Every tree is grown on rows drawn with replacement, every cut is sought
//! among some columns drawn by lot (Breiman 2001). A leaf says the share of its
//! rows with the event, and the forest the mean of what its trees say. Rows
//! that a tree was not grown on judge it: the out-of-bag figures.

mod grower;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::setting::{CheckedSettings, Range, Setting, Tunable};
use super::trees::{Binned, Predictor, Tree};
use super::{FitError, Target, seed_of};
use crate::prepare::Design;
use grower::ForestGrower;
use pronoia_data::Progress;
use pronoia_data::evaluate::{area_under_roc, log_loss};
use pronoia_data::stats::logit;

/// Trees grown before anybody is asked whether to go on.
const BATCH: usize = 8;

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct ForestSettings {
    /// Trees.
    pub trees: usize,
    /// Training rows in a leaf at least.
    pub rows_per_leaf: usize,
    /// Share of the columns that each cut is sought among.
    pub columns: f64,
}

impl Default for ForestSettings {
    fn default() -> Self {
        Self { trees: 200, rows_per_leaf: 15, columns: 0.3 }
    }
}

impl Tunable for ForestSettings {
    const FAMILY: &'static str = "random forest";
    const SETTINGS: &'static [Setting] = &[
        Setting::new("trees", "Trees", Range::Count(1, 5_000), "More are more stable, never worse, and take longer."),
        Setting::new(
            "rows-per-leaf",
            "Rows per leaf",
            Range::Count(1, 1_000_000),
            "Smallest number of training rows in a leaf.",
        ),
        Setting::new(
            "columns",
            "Share of columns per split",
            Range::Above(0.0, 1.0),
            "Each split is chosen among a random share of the columns; fewer make the trees less correlated.",
        ),
    ];
}

/// A fitted random forest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Forest {
    /// The trees; a leaf says the share of its rows with the event.
    pub trees: Vec<Tree>,
    /// Probabilities are kept this far from 0 and from 1.
    pub margin: f64,
    /// Judged by the trees that were not grown on a row; none if some row was
    /// in all of them.
    pub out_of_bag: Option<OutOfBag>,
}

/// How the trees do on rows that they were not grown on.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct OutOfBag {
    /// Rows judged.
    pub rows: u64,
    /// Mean log loss.
    pub log_loss: f64,
    /// Area under the ROC curve.
    pub area_under_roc: f64,
}

/// A tree, and what it says of rows it was not grown on.
struct Judging {
    tree: Tree,
    /// Row and probability.
    said: Vec<(u32, f32)>,
}

impl CheckedSettings<ForestSettings> {
    /// Fits to a design with its gaps; gives also the log-odds of every real
    /// row by the trees that were not grown on it, unless some row was in all.
    ///
    /// # Errors
    /// [`FitError::Cancelled`].
    pub fn fit(
        &self,
        design: &Design,
        target: &Target,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<(Forest, Option<Vec<f64>>), FitError> {
        let binned = Binned::of(design);
        let most = ((binned.features() as f64 * self.columns).round() as usize).clamp(1, binned.features().max(1));
        let mut trees = Vec::with_capacity(self.trees);
        let real = target.real_rows();
        let (mut sums, mut times) = (vec![0.0f64; real], vec![0u32; real]);
        for from in (0..self.trees).step_by(BATCH) {
            progress.go_on()?;
            progress.tell(&format!("Tree {} of {}", from + 1, self.trees), from as f64 / self.trees as f64);
            let batch: Vec<Judging> = (from..self.trees.min(from + BATCH))
                .into_par_iter()
                .map(|at| {
                    let mut rng = ChaCha8Rng::seed_from_u64(seed_of(seed, at));
                    let drawn = drawn(target.rows(), &mut rng);
                    let tree = ForestGrower::new(&binned, self.rows_per_leaf, most).grow(target, &drawn, &mut rng);
                    // Synthetic rows are never judged.
                    let out = (0..real).filter(|&row| drawn[row] == 0);
                    let said = out.map(|row| (row as u32, tree.value(design, row) as f32)).collect();
                    Judging { tree, said }
                })
                .collect();
            for judging in batch {
                for (row, said) in judging.said {
                    sums[row as usize] += f64::from(said);
                    times[row as usize] += 1;
                }
                trees.push(judging.tree);
            }
        }
        let margin = 0.5 / (target.rows() as f64 + 1.0);
        let judged: Vec<usize> = (0..real).filter(|&row| times[row] > 0).collect();
        let mean = |&row: &usize| (sums[row] / f64::from(times[row])).clamp(margin, 1.0 - margin);
        let probability: Vec<f64> = judged.iter().map(mean).collect();
        let event: Vec<bool> = judged.iter().map(|&row| target.event[row]).collect();
        let weight: Vec<f64> = judged.iter().map(|&row| target.weight(row)).collect();
        let out_of_bag = (!judged.is_empty()).then(|| OutOfBag {
            rows: judged.len() as u64,
            log_loss: log_loss(&probability, &event, Some(&weight)),
            area_under_roc: area_under_roc(&probability, &event, Some(&weight)),
        });
        let unmet = (judged.len() == real).then(|| probability.into_iter().map(logit).collect());
        Ok((Forest { trees, margin, out_of_bag }, unmet))
    }
}

/// How often each row is drawn when as many are drawn as there are.
fn drawn(rows: usize, rng: &mut ChaCha8Rng) -> Vec<u16> {
    let mut times = vec![0u16; rows];
    for _ in 0..rows {
        let row = rng.random_range(0..rows);
        times[row] = times[row].saturating_add(1);
    }
    times
}

impl Forest {
    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut sums = vec![0.0; design.rows()];
        Predictor::of(&self.trees, design.features().len()).add_to(design, &mut sums);
        let odds = |sum: f64| logit((sum / self.trees.len() as f64).clamp(self.margin, 1.0 - self.margin));
        sums.into_iter().map(odds).collect()
    }
}
