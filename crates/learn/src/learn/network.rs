//! Neural network: numbers and embedded categories through two layers.
//!
//! Every level of a category has a place in a small space that is learned with
//! the rest (Guo & Berkhahn 2016). Two layers of rectified units follow, with
//! dropout (Srivastava et al. 2014); weights shrink a little at every step
//! (Loshchilov & Hutter 2019), and training stops where rows that were held
//! back are told no better. Several networks are trained, each with other rows
//! held back, and their log-odds averaged.

mod layers;
mod training;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

pub use layers::Comes;
pub use layers::Net;

use super::setting::{CheckedSettings, Range, Setting, Tunable};
use super::{FitError, Target, seed_of};
use crate::prepare::Design;
use pronoia_data::Progress;
use pronoia_data::split::folds;
use training::Course;

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct NetworkSettings {
    /// Units of the first layer; the second has half as many.
    pub units: usize,
    /// Share of units that are silent at a training step.
    pub dropout: f64,
    /// How much weights shrink, times the learning rate, at every step.
    pub weight_decay: f64,
    /// Step size at the beginning.
    pub learning_rate: f64,
    /// Rows per training step.
    pub batch: usize,
    /// Times through all rows at most.
    pub epochs: usize,
    /// Networks whose log-odds are averaged.
    pub networks: usize,
}

impl Default for NetworkSettings {
    fn default() -> Self {
        Self { units: 32, dropout: 0.15, weight_decay: 0.02, learning_rate: 0.003, batch: 128, epochs: 40, networks: 8 }
    }
}

impl Tunable for NetworkSettings {
    const FAMILY: &'static str = "neural network";
    const SETTINGS: &'static [Setting] = &[
        Setting::new("units", "Units", Range::Count(2, 512), "Of the first layer; the second has half as many."),
        Setting::new(
            "dropout",
            "Dropout",
            Range::Number(0.0, 0.8),
            "Share of units dropped at a training step (regularisation).",
        ),
        Setting::new(
            "weight-decay",
            "Weight decay",
            Range::Number(0.0, 10.0),
            "Shrinkage of the weights at every step, times the learning rate.",
        ),
        Setting::new("learning-rate", "Learning rate", Range::Above(0.0, 1.0), "Size of the steps at the beginning."),
        Setting::new(
            "batch",
            "Rows per step (batch)",
            Range::Count(8, 65_536),
            "Larger batches give more stable and fewer steps.",
        ),
        Setting::new("epochs", "Epochs", Range::Count(1, 1_000), "At most; early stopping may end before."),
        Setting::new(
            "networks",
            "Networks",
            Range::Count(1, 20),
            "So many are trained, each with other early-stopping rows, and averaged.",
        ),
    ];
}

/// Fitted networks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Network {
    /// The networks whose log-odds are averaged.
    pub nets: Vec<Net>,
    /// Of the first of them, the mean log loss after each time through its
    /// rows: of these rows as they were met, and of the rows held back.
    pub curve: Vec<(f64, f64)>,
}

impl CheckedSettings<NetworkSettings> {
    /// Fits to a standardised design.
    ///
    /// # Errors
    /// [`FitError::Cancelled`].
    pub fn fit(
        &self,
        design: &Design,
        target: &Target,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Network, FitError> {
        // Even one network holds some rows back.
        let parts = self.networks.max(5);
        let of_row = folds(&target.event[..target.real_rows()], parts, seed);
        let courses: Vec<Course> = (0..self.networks)
            .into_par_iter()
            .map(|at| {
                let back: Vec<usize> = (0..of_row.len()).filter(|&row| of_row[row] == at).collect();
                let rest = target.rows_without(|row| of_row[row] == at);
                let seed = seed_of(seed, at);
                // Only the first speaks; all of them run side by side.
                Course::run(self, (design, target), (&rest, &back), seed, (at == 0, progress))
            })
            .collect::<Result<_, FitError>>()?;
        let curve = courses[0].curve.clone();
        Ok(Network { nets: courses.into_iter().map(|course| course.net).collect(), curve })
    }
}

impl Network {
    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut sums = vec![0.0; design.rows()];
        for net in &self.nets {
            sums.iter_mut().zip(net.log_odds(design)).for_each(|(sum, eta)| *sum += eta);
        }
        sums.into_iter().map(|sum| sum / self.nets.len() as f64).collect()
    }
}
