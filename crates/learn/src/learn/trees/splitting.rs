//! The best cut of a node's rows in two, by one feature.

use super::binning::BinScale;
use super::quantised::{GradientSums, Quantised};

/// Gains below this are rounding.
const LEAST_GAIN: f64 = 1e-7;

/// More categories than this are put in order by the very gradients that the
/// cut is then judged on, which flatters it.
const FEW_LEVELS: usize = 4;

/// What sorting many alike categories by what happened in them, and cutting the
/// order in two, gains by chance alone, for each category beyond the first and in
/// units of the variance of an outcome: the share of a normal variance that lies
/// between its two halves.
const BY_CHANCE: f64 = std::f64::consts::FRAC_2_PI;

/// What a cut must keep to.
#[derive(Debug, Clone)]
pub struct SplitLimits {
    /// Rows on either side at least.
    pub rows_per_leaf: usize,
    /// Ridge penalty on leaf values.
    pub ridge: f64,
    /// Rows that a category needs before it can be ordered among the others.
    pub rows_per_level: usize,
    /// Added to the hessian of a category before it is ordered, so that small
    /// categories do not stand at the ends by accident.
    pub level_smoothing: f64,
    /// Added to the ridge penalty where many categories are cut.
    pub level_ridge: f64,
    /// Whether leaf values are drawn towards that of their node, and not towards 0.
    pub centred: bool,
}

impl SplitLimits {
    /// The value of a leaf with these sums, between two bounds, before any learning rate.
    pub fn value(&self, sums: GradientSums, bounds: [f64; 2]) -> f64 {
        (-sums.gradient / (sums.hessian + self.ridge)).clamp(bounds[0], bounds[1])
    }
}

/// Where the values of leaves may go as a feature rises.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Direction {
    /// Anywhere.
    #[default]
    Free,
    /// Never down.
    Rising,
    /// Never up.
    Falling,
}

/// Which bins of a feature go left: one bit per bin.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct BinSet([u64; 4]);

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
pub struct FoundSplit {
    pub feature: usize,
    /// Loss that the cut takes away, times two.
    pub gain: f64,
    /// Bins that go left, the missing one among them or not.
    pub left_bins: BinSet,
    /// For features with edges: the last bin that goes left.
    pub last_left: Option<u8>,
    pub left: GradientSums,
    pub right: GradientSums,
}

/// The node that is to be cut.
pub struct Cuttable<'a> {
    /// What the packed sums stand for.
    pub quantised: &'a Quantised,
    /// Sums of all its rows.
    pub total: GradientSums,
    /// How many they are.
    pub rows: usize,
    /// Between which two its leaf values must lie.
    pub bounds: [f64; 2],
    /// What the cut must keep to.
    pub limits: &'a SplitLimits,
}

impl Cuttable<'_> {
    /// The value of a leaf with these sums, before any learning rate.
    fn value(&self, sums: GradientSums) -> f64 {
        self.limits.value(sums, self.bounds)
    }

    /// Loss that a leaf with these sums takes away, times two.
    fn worth(&self, sums: GradientSums, ridge: f64) -> f64 {
        let curvature = sums.hessian + ridge;
        if curvature <= 0.0 {
            return 0.0;
        }
        let value = (-sums.gradient / curvature).clamp(self.bounds[0], self.bounds[1]);
        -value * (2.0 * sums.gradient + curvature * value)
    }

    /// About how many rows have this hessian. Rows are not counted bin by bin;
    /// where each counts the same, this is their number.
    fn rows_of(&self, sums: GradientSums) -> f64 {
        sums.hessian * self.rows as f64 / self.total.hessian
    }

    /// The best cut by one feature; `bins` holds its packed sums by bin.
    pub fn cut(&self, feature: usize, scale: &BinScale, bins: &[i64], direction: Direction) -> Option<FoundSplit> {
        let centre = if self.limits.centred { self.total.gradient / self.total.hessian } else { 0.0 };
        let is_free = direction == Direction::Free && self.bounds == [f64::NEG_INFINITY, f64::INFINITY];
        // About so much hessian have as many rows as a leaf needs.
        let least = (self.limits.rows_per_leaf as f64 - 1e-6) * self.total.hessian / self.rows as f64;
        let search = SplitSearch { node: self, feature, centre, direction, is_free, least };
        match scale {
            BinScale::Edges(_) => search.by_edge(scale.used(), bins),
            BinScale::Levels(_) => search.by_level(scale.used(), bins),
        }
    }
}

struct SplitSearch<'a> {
    node: &'a Cuttable<'a>,
    feature: usize,
    centre: f64,
    direction: Direction,
    /// Whether leaf values may be anything.
    is_free: bool,
    /// Hessian on either side at least.
    least: f64,
}

impl SplitSearch<'_> {
    fn centred(&self, sums: GradientSums) -> GradientSums {
        GradientSums { gradient: sums.gradient - self.centre * sums.hessian, ..sums }
    }

    /// Loss that a leaf with these sums takes away, times two.
    fn worth(&self, sums: GradientSums, ridge: f64) -> f64 {
        let sums = self.centred(sums);
        if self.is_free && sums.hessian + ridge > 0.0 {
            return sums.gradient * sums.gradient / (sums.hessian + ridge);
        }
        self.node.worth(sums, ridge)
    }

    /// What a cut gains that leaves these sums on the left, where `whole` is what the
    /// node is worth uncut; none if it may not be.
    fn gain(&self, left: GradientSums, ridge: f64, whole: f64) -> Option<f64> {
        let (node, right) = (self.node, self.node.total.less(left));
        if left.hessian < self.least || right.hessian < self.least {
            return None;
        }
        let gain = self.worth(left, ridge) + self.worth(right, ridge) - whole;
        if self.is_free {
            return (gain > LEAST_GAIN).then_some(gain);
        }
        let in_order = match self.direction {
            Direction::Free => true,
            Direction::Rising => node.value(left) <= node.value(right),
            Direction::Falling => node.value(left) >= node.value(right),
        };
        (gain > LEAST_GAIN && in_order).then_some(gain)
    }

    /// The variance of an outcome in the node. Gradients of log-odds are held back by
    /// smoothing and ridge instead, tree by tree: there this would hold back twice.
    fn spread(&self) -> f64 {
        let rate = self.centre.abs();
        if self.node.limits.centred { rate * (1.0 - rate) } else { 0.0 }
    }

    fn by_edge(&self, used: usize, bins: &[i64]) -> Option<FoundSplit> {
        let node = self.node;
        let missing = node.quantised.sums(bins[used]);
        let any_missing = bins[used] != 0;
        let whole = self.worth(node.total, node.limits.ridge);
        let mut best: Option<(f64, u8, bool, GradientSums)> = None;
        let sides: &[bool] = if any_missing { &[false, true] } else { &[false] };
        for &missing_left in sides {
            let mut left = if missing_left { missing } else { GradientSums::default() };
            for (bin, &word) in bins[..used].iter().enumerate().take(used - usize::from(!any_missing)) {
                if word == 0 && bin > 0 {
                    continue;
                }
                left.add(node.quantised.sums(word));
                let Some(gain) = self.gain(left, node.limits.ridge, whole) else { continue };
                if best.is_none_or(|b| gain > b.0) {
                    best = Some((gain, bin as u8, missing_left, left));
                }
            }
        }
        let (gain, last, missing_left, left) = best?;
        let right = node.total.less(left);
        let mut left_bins = BinSet::default();
        (0..=last).for_each(|bin| left_bins.insert(bin));
        // Where nothing was missing in training, a missing value goes with the larger side.
        if missing_left || (!any_missing && left.hessian > right.hessian) {
            left_bins.insert(used as u8);
        }
        Some(FoundSplit { feature: self.feature, gain, left_bins, last_left: Some(last), left, right })
    }

    fn by_level(&self, used: usize, bins: &[i64]) -> Option<FoundSplit> {
        let (node, limits) = (self.node, self.node.limits);
        let mut levels: Vec<(u8, GradientSums)> = (0..=used as u8)
            .zip(bins)
            .map(|(bin, &word)| (bin, node.quantised.sums(word)))
            .filter(|(_, sums)| sums.hessian > 0.0 && node.rows_of(*sums) >= limits.rows_per_level as f64 - 1e-6)
            .collect();
        let order = |sums: GradientSums| self.centred(sums).gradient / (sums.hessian + limits.level_smoothing);
        levels.sort_by(|a, b| order(a.1).total_cmp(&order(b.1)).then(a.0.cmp(&b.0)));
        let many = levels.len() > FEW_LEVELS;
        let ridge = limits.ridge + if many { limits.level_ridge } else { 0.0 };
        let by_chance = if many { BY_CHANCE * (levels.len() - 1) as f64 * self.spread() } else { 0.0 };
        let whole = self.worth(node.total, ridge);
        let mut best: Option<(f64, usize, GradientSums)> = None;
        let mut left = GradientSums::default();
        for (at, (_, sums)) in levels.iter().enumerate().take(levels.len().saturating_sub(1)) {
            left.add(*sums);
            if let Some(gain) = self.gain(left, ridge, whole)
                && best.is_none_or(|b| gain > b.0)
            {
                best = Some((gain, at, left));
            }
        }
        let (gain, last, left) = best?;
        let gain = gain - by_chance;
        if gain <= LEAST_GAIN {
            return None;
        }
        let mut left_bins = BinSet::default();
        levels[..=last].iter().for_each(|(bin, _)| left_bins.insert(*bin));
        let right = node.total.less(left);
        Some(FoundSplit { feature: self.feature, gain, left_bins, last_left: None, left, right })
    }
}
