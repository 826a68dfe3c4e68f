//! Gradient-boosted trees on histograms.
//!
//! Each round fits a small regression tree to the gradient of the log loss
//! (Friedman 2001; second-order leaf values as in Friedman, Hastie &
//! Tibshirani 2000, "additive logistic regression"). Columns are cut into at
//! most 255 bins once, splits are sought among bins, and the histogram of the
//! larger child is its parent's less the smaller child's. Missing values go
//! to whichever side lowers the loss; categories are ordered by their mean
//! gradient before they are cut (Fisher 1958).

mod loss;

use rand::seq::{SliceRandom, index};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

use super::setting::{CheckedSettings, Range, Setting, Tunable};
use super::trees::{Binned, Direction, Grower, GrowthLimits, Predictor, Quantised, SplitLimits, Tree};
use super::{FitError, Target};
use crate::prepare::{Design, FeatureValues};
use pronoia_data::Progress;
use pronoia_data::progress::ProgressPart;

/// Rows held back from the trees while the number of rounds is chosen.
const HELD_BACK: usize = 7;

/// Rounds without improvement after which no more are tried.
const PATIENCE: usize = 30;

/// Rows that a category needs, what its rate is drawn to the others by, and
/// what a cut of many categories must bring, before it is believed.
const LEVELS: (usize, f64, f64) = (100, 100.0, 100.0);

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct BoostedSettings {
    /// Trees at most.
    pub trees: usize,
    /// Leaves per tree at most.
    pub leaves: usize,
    /// Share of each tree's advice that is followed.
    pub learning_rate: f64,
    /// Training rows in a leaf at least.
    pub rows_per_leaf: usize,
    /// Ridge penalty on leaf values.
    pub ridge: f64,
    /// Share of the rows that each tree is grown on.
    pub rows: f64,
    /// Share of the columns that each tree may use.
    pub columns: f64,
    /// Columns with which the probability may only rise.
    pub rising: Vec<String>,
    /// Columns with which the probability may only fall.
    pub falling: Vec<String>,
    /// Whether the number of trees is chosen on rows held back from training.
    pub early_stopping: bool,
}

impl Default for BoostedSettings {
    fn default() -> Self {
        Self {
            trees: 400,
            leaves: 15,
            learning_rate: 0.06,
            rows_per_leaf: 30,
            ridge: 1.0,
            rows: 1.0,
            columns: 1.0,
            rising: Vec::new(),
            falling: Vec::new(),
            early_stopping: true,
        }
    }
}

impl Tunable for BoostedSettings {
    const FAMILY: &'static str = "boosted trees";
    const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "trees",
            "Trees at most",
            Range::Count(1, 5_000),
            "Each is fitted to the gradient that the ones before it left.",
        ),
        Setting::new(
            "leaves",
            "Leaves per tree",
            Range::Count(2, 1_024),
            "More leaves allow interactions of more columns, and need more rows.",
        ),
        Setting::new(
            "learning-rate",
            "Learning rate",
            Range::Above(0.0, 1.0),
            "Shrinkage of each tree; smaller is more stable and takes more trees.",
        ),
        Setting::new(
            "rows-per-leaf",
            "Rows per leaf",
            Range::Count(1, 1_000_000),
            "Smallest number of training rows in a leaf.",
        ),
        Setting::new(
            "ridge",
            "Ridge penalty on leaves",
            Range::Number(0.0, f64::INFINITY),
            "Shrinks the values of small leaves towards zero.",
        ),
        Setting::new(
            "rows",
            "Share of rows per tree",
            Range::Above(0.0, 1.0),
            "Each tree is grown on a random share of the rows.",
        ),
        Setting::new(
            "columns",
            "Share of columns per tree",
            Range::Above(0.0, 1.0),
            "Each tree may use a random share of the columns.",
        ),
        Setting::new(
            "rising",
            "Rising only",
            Range::Columns,
            "Monotone constraint: the probability may only rise with these columns, all else equal.",
        ),
        Setting::new(
            "falling",
            "Falling only",
            Range::Columns,
            "Monotone constraint: the probability may only fall with these columns, all else equal.",
        ),
        Setting::new(
            "early-stopping",
            "Stop early",
            Range::YesNo,
            "Chooses the number of trees with the least log loss on the early-stopping rows.",
        ),
    ];
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

impl CheckedSettings<BoostedSettings> {
    /// Fits; with early stopping first on six rows of seven to find the number
    /// of rounds, then on all of them.
    ///
    /// # Errors
    /// [`FitError::Cancelled`], or [`FitError::Column`] for a direction of no number.
    pub fn fit(
        &self,
        design: &Design,
        target: &Target,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Boosted, FitError> {
        let real = &target.event[..target.real_rows()];
        let small = real.iter().filter(|&&e| e).count() < 4 * HELD_BACK;
        if !self.early_stopping || small {
            let trees = if small && self.early_stopping { self.trees.min(50) } else { self.trees };
            return self.boost(design, target, (trees, seed), None, progress);
        }
        let back = held_back(real, seed);
        let watched: Vec<usize> = (0..real.len()).filter(|&row| back[row]).collect();
        let fitted = target.rows_without(|row| back[row]);
        let trial = self.boost(
            &design.take(&fitted),
            &target.take(&fitted),
            (self.trees, seed),
            Some((&design.take(&watched), &target.held_back(&watched))),
            &ProgressPart::of(progress, 0.0, 0.6),
        )?;
        let rounds = best_round(&trial.curve);
        let whole = self.boost(design, target, (rounds, seed), None, &ProgressPart::of(progress, 0.6, 1.0))?;
        Ok(Boosted { curve: trial.curve, ..whole })
    }

    fn boost(
        &self,
        design: &Design,
        target: &Target,
        (rounds, seed): (usize, u64),
        watched: Option<(&Design, &Target)>,
        progress: &dyn Progress,
    ) -> Result<Boosted, FitError> {
        let growth = self.growth(design)?;
        let binned = Binned::of(design);
        let start = loss::start(target);
        let mut scores = vec![start; target.rows()];
        let mut watched_scores = watched.map(|(d, _)| vec![start; d.rows()]).unwrap_or_default();
        let mut grower = Grower::new(&binned, &growth);
        let mut gradients = vec![[0.0f32; 2]; target.rows()];
        let mut quantised = Quantised::default();
        let mut trees = Vec::with_capacity(rounds);
        let mut curve: Vec<(f64, f64)> = Vec::new();
        let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0x07ee_5eed);
        for round in 1..=rounds {
            progress.go_on()?;
            loss::gradients(&scores, target, &mut gradients);
            quantised.pack(&gradients, rng.random());
            let part = self.part(binned.rows(), &mut rng);
            let grown = grower.grow(&quantised, part.as_deref(), &self.allowed(binned.features(), &mut rng));
            grown.add_to(&binned, part.as_deref(), &mut scores);
            let tree = grown.tree;
            let mut words = format!("Tree {round} of {rounds}");
            if let Some((watched_design, watched_target)) = watched {
                Predictor::of([&tree], watched_design.features().len()).add_to(watched_design, &mut watched_scores);
                let point = (loss::mean(&scores, target), loss::mean(&watched_scores, watched_target));
                words = format!("Tree {round}, at most {rounds}; log loss {:.4} on early-stopping rows", point.1);
                curve.push(point);
                progress.learned(round, point);
            }
            // With all rows and columns at hand, the next tree would find nothing either.
            let is_over = tree.nodes.len() == 1 && self.rows == 1.0 && self.columns == 1.0;
            trees.push(tree);
            progress.tell(&words, round as f64 / rounds as f64);
            if is_over || (!curve.is_empty() && round >= best_round(&curve) + PATIENCE) {
                break;
            }
        }
        Ok(Boosted { start, trees, curve })
    }

    fn growth(&self, design: &Design) -> Result<GrowthLimits, FitError> {
        let mut directions = vec![Direction::Free; design.features().len()];
        for (names, direction) in [(&self.rising, Direction::Rising), (&self.falling, Direction::Falling)] {
            for name in names {
                let at = design.features().iter().position(|f| f.column == *name);
                match at.filter(|&at| matches!(design.features()[at].values, FeatureValues::Number(_))) {
                    Some(at) => directions[at] = direction,
                    None => return Err(FitError::Column(name.clone())),
                }
            }
        }
        let (rows_per_level, level_smoothing, level_ridge) = LEVELS;
        let limits = SplitLimits {
            rows_per_leaf: self.rows_per_leaf,
            ridge: self.ridge,
            rows_per_level,
            level_smoothing,
            level_ridge,
            centred: false,
        };
        Ok(GrowthLimits { leaves: self.leaves, limits, directions, rate: self.learning_rate })
    }

    /// The rows that a tree is grown on, drawn by lot; none for all.
    fn part(&self, rows: usize, rng: &mut ChaCha8Rng) -> Option<Vec<bool>> {
        (self.rows < 1.0).then(|| (0..rows).map(|_| rng.random::<f64>() < self.rows).collect())
    }

    /// The features that a tree may use, drawn by lot.
    fn allowed(&self, features: usize, rng: &mut ChaCha8Rng) -> Vec<usize> {
        if self.columns == 1.0 {
            return (0..features).collect();
        }
        let most = ((features as f64 * self.columns).round() as usize).clamp(1, features);
        let mut drawn = index::sample(rng, features, most).into_vec();
        drawn.sort_unstable();
        drawn
    }
}

impl Boosted {
    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut scores = vec![self.start; design.rows()];
        Predictor::of(&self.trees, design.features().len()).add_to(design, &mut scores);
        scores
    }
}

/// One row in seven of either outcome, drawn by lot.
fn held_back(event: &[bool], seed: u64) -> Vec<bool> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0x0b00_57ed);
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
