//! Nearest neighbours on columns of mixed kinds.
//!
//! A customer is as likely to have the event as the known customers most like
//! them (Fix & Hodges 1951). Numbers are as far apart as they differ in
//! standard deviations, squared; categories are equally far apart where they
//! differ (Wilson & Martinez 1997, the overlap metric). A column counts by what it
//! tells of the outcome alone, so that columns that tell nothing do not drown
//! the others.

use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::setting::{CheckedSettings, Range, Setting, Tunable};
use super::{FitError, Target};
use crate::prepare::{Design, Feature, FeatureValues};
use pronoia_data::Progress;
use pronoia_data::drivers::band_edges;
use pronoia_data::stats::{Count, mutual_information, total};
use pronoia_data::stats::{logit, sigmoid};

/// Bands that a number is cut into to see what it tells.
const BANDS: usize = 10;

/// How far apart two numbers in standard deviations are on average, squared.
const APART: f64 = 2.0;

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct NeighboursSettings {
    /// Known customers that are asked.
    pub neighbours: usize,
    /// Whether columns count by what they tell.
    pub weigh_columns: bool,
    /// Known customers that are kept, at most.
    pub most_rows: usize,
}

impl Default for NeighboursSettings {
    fn default() -> Self {
        Self { neighbours: 70, weigh_columns: true, most_rows: 10_000 }
    }
}

impl Tunable for NeighboursSettings {
    const FAMILY: &'static str = "nearest neighbours";
    const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "neighbours",
            "Neighbours",
            Range::Count(1, 10_000),
            "How many of the most similar customers are averaged; more are more stable and see less detail.",
        ),
        Setting::new(
            "weigh-columns",
            "Weight columns",
            Range::YesNo,
            "Columns are weighted by their association with the outcome; otherwise equally.",
        ),
        Setting::new(
            "most-rows",
            "Customers kept",
            Range::Count(10, 200_000),
            "A random sample of so many training rows is kept in the model; scoring time grows with it.",
        ),
    ];
}

/// Known customers, and how to compare with them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Neighbours {
    /// How many are asked.
    pub neighbours: usize,
    /// Log-odds of the event among all.
    pub prior: f64,
    /// The known customers' values, feature by feature.
    pub known: Vec<KnownFeature>,
    /// Whether each of them had the event, and how much each counts.
    pub outcome: Vec<(bool, f64)>,
}

/// A feature of the known customers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KnownFeature {
    /// Numbers, and what a squared difference of 1 counts.
    Numbers(Vec<f32>, f32),
    /// Levels, and what another level counts.
    Levels(Vec<u32>, f32),
}

impl CheckedSettings<NeighboursSettings> {
    /// Keeps known customers of a standardised design.
    ///
    /// # Errors
    /// [`FitError::Cancelled`].
    pub fn fit(
        &self,
        design: &Design,
        target: &Target,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Neighbours, FitError> {
        progress.go_on()?;
        progress.tell("Weighting the columns", 0.2);
        let mut rows: Vec<usize> = (0..target.rows()).collect();
        if rows.len() > self.most_rows {
            rows.shuffle(&mut ChaCha8Rng::seed_from_u64(seed));
            rows.truncate(self.most_rows);
            rows.sort_unstable();
        }
        let known = design.features().par_iter().map(|feature| {
            let told = if self.weigh_columns { told(&feature.values, target) } else { 1.0 };
            match &feature.values {
                FeatureValues::Number(v) => {
                    KnownFeature::Numbers(rows.iter().map(|&row| v[row] as f32).collect(), (told / APART) as f32)
                }
                FeatureValues::Levels { codes, .. } => {
                    let codes: Vec<u32> = rows.iter().map(|&row| codes[row]).collect();
                    let apart = apart(&codes);
                    KnownFeature::Levels(codes, (told / apart) as f32)
                }
            }
        });
        let rate = target.rate();
        Ok(Neighbours {
            neighbours: self.neighbours.min(rows.len()),
            prior: logit(rate),
            known: known.collect(),
            outcome: rows.iter().map(|&row| (target.event[row], target.weight(row))).collect(),
        })
    }
}

/// What a feature tells of the outcome, in bits, less what chance alone would
/// make it seem to tell (Miller 1955).
fn told(values: &FeatureValues, target: &Target) -> f64 {
    let mut counts: Vec<Count> = Vec::new();
    let mut add = |slot: usize, row: usize| {
        if counts.len() <= slot {
            counts.resize(slot + 1, Count::default());
        }
        counts[slot].add(target.event[row]);
    };
    match values {
        FeatureValues::Number(v) => {
            let edges = band_edges(v.iter().copied(), BANDS);
            v.iter().enumerate().for_each(|(row, x)| add(edges.partition_point(|edge| edge < x), row));
        }
        FeatureValues::Levels { count, codes } => {
            codes.iter().enumerate().for_each(|(row, &code)| add((code as usize).min(*count), row));
        }
    }
    counts.retain(|count| count.rows > 0);
    let by_chance = (counts.len() as f64 - 1.0) / (2.0 * total(&counts).rows as f64 * std::f64::consts::LN_2);
    (mutual_information(&counts) - by_chance).max(0.0)
}

/// The share of pairs whose levels differ.
fn apart(codes: &[u32]) -> f64 {
    let mut sorted = codes.to_vec();
    sorted.sort_unstable();
    let n = codes.len() as f64;
    let same: f64 = sorted.chunk_by(|a, b| a == b).map(|group| (group.len() as f64 / n).powi(2)).sum();
    (1.0 - same).max(1.0 / n)
}

impl Neighbours {
    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let known = self.outcome.len();
        (0..design.rows())
            .into_par_iter()
            .map_init(
                || (vec![0.0f32; known], Vec::with_capacity(known)),
                |(distance, order), row| self.of_row(design.features(), row, distance, order),
            )
            .collect()
    }

    fn of_row(&self, features: &[Feature], row: usize, distance: &mut [f32], order: &mut Vec<u32>) -> f64 {
        distance.fill(0.0);
        for (known, feature) in self.known.iter().zip(features) {
            match (known, &feature.values) {
                (KnownFeature::Numbers(values, counts), FeatureValues::Number(v)) if *counts > 0.0 => {
                    let x = v[row] as f32;
                    distance.iter_mut().zip(values).for_each(|(d, y)| *d += counts * (x - y) * (x - y));
                }
                (KnownFeature::Levels(values, counts), FeatureValues::Levels { codes, .. }) if *counts > 0.0 => {
                    let code = codes[row];
                    distance.iter_mut().zip(values).for_each(|(d, y)| *d += if *y == code { 0.0 } else { *counts });
                }
                _ => {}
            }
        }
        order.clear();
        order.extend(0..distance.len() as u32);
        let nearer = |a: &u32, b: &u32| distance[*a as usize].total_cmp(&distance[*b as usize]).then(a.cmp(b));
        if self.neighbours < order.len() {
            order.select_nth_unstable_by(self.neighbours - 1, nearer);
            order.truncate(self.neighbours);
            // Sums must not depend on the order in which the nearest were found.
            order.sort_unstable();
        }
        let (mut events, mut all) = (0.0, 0.0);
        for &at in order.iter() {
            let (event, weight) = self.outcome[at as usize];
            all += weight;
            events += if event { weight } else { 0.0 };
        }
        // One more customer who has the event as often as all do.
        let rate = sigmoid(self.prior);
        ((events + rate) / (all - events + 1.0 - rate)).ln()
    }
}
