//! Every feature as one byte per row.

use rayon::prelude::*;

use crate::prepare::{Design, Feature, FeatureValues};

/// The bin of a missing value, of either kind of feature.
pub(super) const MISSING_BIN: u8 = u8::MAX;

/// Bins of values that are there.
pub(super) const BINS: usize = 255;

/// Values looked at to place the edges of the bins.
const SAMPLE: usize = 200_000;

/// A design cut into bins, feature by feature.
pub(super) struct Binned {
    pub features: Vec<BinnedFeature>,
    pub rows: usize,
}

/// One feature cut into bins.
pub(super) struct BinnedFeature {
    /// Bin per row.
    pub bins: Vec<u8>,
    /// What the bins mean.
    pub scale: Scale,
}

/// What the bins of a feature mean.
pub(super) enum Scale {
    /// Bin `b` holds values of at most `edges[b]`, and the last bin the rest.
    Edges(Vec<f64>),
    /// Bin `b` is level `b`; the number of levels with a bin of their own.
    Levels(usize),
}

impl BinnedFeature {
    /// Number of bins in use, the missing one not counted.
    pub fn used(&self) -> usize {
        match &self.scale {
            Scale::Edges(edges) => edges.len() + 1,
            Scale::Levels(n) => *n,
        }
    }
}

impl Binned {
    pub fn of(design: &Design) -> Self {
        Self { features: design.features().par_iter().map(cut).collect(), rows: design.rows() }
    }
}

fn cut(feature: &Feature) -> BinnedFeature {
    match &feature.values {
        FeatureValues::Number(values) => {
            let edges = edges(values);
            let bin = |&x: &f64| {
                if x.is_nan() { MISSING_BIN } else { edges.partition_point(|&e| e < x) as u8 }
            };
            BinnedFeature { bins: values.iter().map(bin).collect(), scale: Scale::Edges(edges) }
        }
        FeatureValues::Levels { count, codes } => {
            // Levels come most frequent first; those beyond the last bin share the missing one.
            let own = (*count).min(BINS);
            let bin = |&c: &u32| if (c as usize) < own { c as u8 } else { MISSING_BIN };
            BinnedFeature { bins: codes.iter().map(bin).collect(), scale: Scale::Levels(own) }
        }
    }
}

/// Cut points half-way between neighbouring values where few differ, and at
/// quantiles otherwise. Each is representable in single precision, so that
/// forms of the model which hold no more cannot send a row the other way.
fn edges(values: &[f64]) -> Vec<f64> {
    let step = values.len().div_ceil(SAMPLE).max(1);
    let mut sorted: Vec<f64> = values.iter().step_by(step).copied().filter(|x| !x.is_nan()).collect();
    sorted.sort_unstable_by(f64::total_cmp);
    let mut distinct = sorted.clone();
    distinct.dedup();
    let between = |low: f64, high: f64| {
        let middle = f64::from(((low + high) / 2.0) as f32);
        if middle >= low && middle < high { middle } else { low }
    };
    if distinct.len() <= BINS {
        return distinct.windows(2).map(|w| between(w[0], w[1])).collect();
    }
    let mut edges: Vec<f64> = (1..BINS)
        .filter_map(|i| {
            let low = sorted[i * sorted.len() / BINS];
            let above = distinct.partition_point(|&d| d <= low);
            distinct.get(above).map(|&high| between(low, high))
        })
        .collect();
    edges.dedup();
    edges
}
