//! Every feature as one byte per row.

use rayon::prelude::*;

use crate::prepare::{Design, Feature, FeatureValues};

/// Bins of values that are there; one more may hold the missing.
pub const BINS: usize = 255;

/// Features whose bins lie side by side: a row of a group is read at once.
pub(super) const GROUP: usize = 8;

/// Values looked at to place the edges of the bins.
const SAMPLE: usize = 200_000;

/// A design cut into bins.
pub struct Binned {
    /// What the bins of every feature mean.
    pub(super) scales: Vec<BinScale>,
    /// The bins of features `8 g` to `8 g + 7`, row by row.
    pub(super) groups: Vec<Vec<[u8; GROUP]>>,
    /// Number of rows.
    pub(super) rows: usize,
}

/// What the bins of a feature mean. The bin after the last one in use is that
/// of missing and unknown values.
pub enum BinScale {
    /// Bin `b` holds values of at most `edges[b]`, and the last bin the rest.
    Edges(Vec<f64>),
    /// Bin `b` is level `b`; the number of levels with a bin of their own.
    Levels(usize),
}

impl BinScale {
    /// Number of bins in use, the missing one not counted.
    pub fn used(&self) -> usize {
        match self {
            BinScale::Edges(edges) => edges.len() + 1,
            BinScale::Levels(n) => *n,
        }
    }

    fn of(feature: &Feature) -> Self {
        match &feature.values {
            FeatureValues::Number(values) => BinScale::Edges(edges(values)),
            // Levels come most frequent first; those beyond the last bin share the missing one.
            FeatureValues::Levels { count, .. } => BinScale::Levels((*count).min(BINS)),
        }
    }

    fn bin(&self, values: &FeatureValues, row: usize) -> u8 {
        let missing = self.used() as u8;
        match (self, values) {
            (BinScale::Edges(_), FeatureValues::Number(v)) if v[row].is_nan() => missing,
            (BinScale::Edges(edges), FeatureValues::Number(v)) => edges.partition_point(|&e| e < v[row]) as u8,
            (BinScale::Levels(own), FeatureValues::Levels { codes, .. }) => (codes[row] as usize).min(*own) as u8,
            _ => missing,
        }
    }
}

impl Binned {
    /// Places the edges by the values of the design, and cuts it.
    pub fn of(design: &Design) -> Self {
        let scales: Vec<BinScale> = design.features().par_iter().map(BinScale::of).collect();
        let groups = (0..scales.len().div_ceil(GROUP))
            .map(|group| {
                let from = group * GROUP;
                let features = &design.features()[from..scales.len().min(from + GROUP)];
                let mut rows = vec![[0u8; GROUP]; design.rows()];
                rows.par_iter_mut().enumerate().with_min_len(4_096).for_each(|(row, bins)| {
                    for (k, feature) in features.iter().enumerate() {
                        bins[k] = scales[from + k].bin(&feature.values, row);
                    }
                });
                rows
            })
            .collect();
        Self { scales, groups, rows: design.rows() }
    }

    /// Number of rows.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// Number of features.
    pub fn features(&self) -> usize {
        self.scales.len()
    }

    /// What the bins of a feature mean.
    pub fn scale(&self, feature: usize) -> &BinScale {
        &self.scales[feature]
    }

    /// The bin of a feature in a row.
    pub fn bin(&self, feature: usize, row: usize) -> u8 {
        self.groups[feature / GROUP][row][feature % GROUP]
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
