//! The best cut of a node's rows in two.

use rayon::prelude::*;

use super::BoostedSettings;
use super::binning::{Binned, BinnedFeature, MISSING_BIN, Scale};
use super::histogram::{Bin, Histogram};

/// Gains below this are rounding.
const LEAST_GAIN: f64 = 1e-7;

/// Rows that a category needs before it can be ordered among the others.
const ROWS_PER_LEVEL: u32 = 100;

/// Added to the hessian of a category before it is ordered, so that small
/// categories do not stand at the ends by accident.
const LEVEL_SMOOTHING: f64 = 100.0;

/// Which bins of a feature go left: one bit per bin.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct BinSet([u64; 4]);

impl BinSet {
    pub fn insert(&mut self, bin: u8) {
        self.0[usize::from(bin >> 6)] |= 1 << (bin & 63);
    }

    pub fn contains(&self, bin: u8) -> bool {
        self.0[usize::from(bin >> 6)] >> (bin & 63) & 1 == 1
    }
}

/// A cut that was found.
#[derive(Debug, Clone)]
pub(super) struct Split {
    pub feature: usize,
    pub gain: f64,
    /// Bins that go left, the missing one among them or not.
    pub left_bins: BinSet,
    /// For features with edges: the last bin that goes left.
    pub last_left: Option<u8>,
    pub left: Bin,
    pub right: Bin,
}

/// Loss that a leaf with these sums takes away, times two.
fn worth(bin: &Bin, ridge: f64) -> f64 {
    bin.gradient * bin.gradient / (bin.hessian + ridge)
}

/// Added to the ridge penalty when categories are cut: they are put in order by
/// the very gradients that the cut is then judged on, which flatters it.
const LEVEL_RIDGE: f64 = 100.0;

/// Looks through all features; ties go to the first.
pub(super) fn best(binned: &Binned, histogram: &Histogram, total: &Bin, settings: &BoostedSettings) -> Option<Split> {
    let per_feature: Vec<Option<Split>> = histogram
        .features()
        .par_iter()
        .zip(&binned.features)
        .enumerate()
        .map(|(index, (bins, feature))| {
            let search = Search { index, bins, total, settings };
            match feature.scale {
                Scale::Edges(_) => search.by_edge(feature),
                Scale::Levels(_) => search.by_level(feature),
            }
        })
        .collect();
    per_feature.into_iter().flatten().fold(None, |best: Option<Split>, split| match best {
        Some(b) if b.gain >= split.gain => Some(b),
        _ => Some(split),
    })
}

struct Search<'a> {
    index: usize,
    bins: &'a [Bin],
    total: &'a Bin,
    settings: &'a BoostedSettings,
}

impl Search<'_> {
    fn gain(&self, left: &Bin, ridge: f64) -> Option<(f64, Bin)> {
        let right = self.total.less(left);
        let least = self.settings.rows_per_leaf as u32;
        if left.rows < least || right.rows < least {
            return None;
        }
        let gain = worth(left, ridge) + worth(&right, ridge) - worth(self.total, ridge);
        (gain > LEAST_GAIN).then_some((gain, right))
    }

    fn by_edge(&self, feature: &BinnedFeature) -> Option<Split> {
        let missing = self.bins[usize::from(MISSING_BIN)];
        let mut best: Option<Split> = None;
        let sides: &[bool] = if missing.rows > 0 { &[false, true] } else { &[false] };
        for &missing_left in sides {
            let mut left = if missing_left { missing } else { Bin::default() };
            for bin in 0..feature.used().saturating_sub(usize::from(missing.rows == 0)) {
                left.add(&self.bins[bin]);
                let Some((gain, right)) = self.gain(&left, self.settings.ridge) else { continue };
                if best.as_ref().is_some_and(|b| b.gain >= gain) {
                    continue;
                }
                let mut left_bins = BinSet::default();
                (0..=bin).for_each(|b| left_bins.insert(b as u8));
                // Where nothing was missing in training, a missing value goes with the larger side.
                if missing_left || (missing.rows == 0 && left.rows > right.rows) {
                    left_bins.insert(MISSING_BIN);
                }
                best = Some(Split { feature: self.index, gain, left_bins, last_left: Some(bin as u8), left, right });
            }
        }
        best
    }

    fn by_level(&self, feature: &BinnedFeature) -> Option<Split> {
        let own = (0..feature.used()).map(|b| b as u8).chain([MISSING_BIN]);
        let mut levels: Vec<(u8, &Bin)> =
            own.map(|b| (b, &self.bins[usize::from(b)])).filter(|(_, bin)| bin.rows >= ROWS_PER_LEVEL).collect();
        let order = |bin: &Bin| bin.gradient / (bin.hessian + LEVEL_SMOOTHING);
        levels.sort_by(|a, b| order(a.1).total_cmp(&order(b.1)).then(a.0.cmp(&b.0)));
        // Two or three categories leave no room for flattery.
        let ridge = self.settings.ridge + if levels.len() > 4 { LEVEL_RIDGE } else { 0.0 };
        let mut best: Option<(f64, usize, Bin, Bin)> = None;
        let mut left = Bin::default();
        for (i, (_, bin)) in levels.iter().enumerate().take(levels.len().saturating_sub(1)) {
            left.add(bin);
            if let Some((gain, right)) = self.gain(&left, ridge)
                && best.as_ref().is_none_or(|b| gain > b.0)
            {
                best = Some((gain, i, left, right));
            }
        }
        let (gain, last, left, right) = best?;
        let mut left_bins = BinSet::default();
        levels[..=last].iter().for_each(|(b, _)| left_bins.insert(*b));
        Some(Split { feature: self.index, gain, left_bins, last_left: None, left, right })
    }
}
