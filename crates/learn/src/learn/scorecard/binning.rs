//! Columns cut into groups whose event rates differ.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::ScorecardSettings;
use super::groups::ScorecardBins;
use crate::learn::Target;
use crate::prepare::{Design, Feature, FeatureValues};
use pronoia_data::drivers::{band_edges, merged};
use pronoia_data::stats::{Count, information_value, total};

/// Bands that a number is cut into before neighbours are put together.
const FINEST: usize = 20;

/// Share of a column's information that rates going one way may cost, where
/// that is left to the records.
const WORTH_IT: f64 = 0.1;

/// The groups of a column and their weights of evidence.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Bands {
    /// The groups.
    pub groups: ScorecardBins,
    /// Evidence by group.
    pub evidence: Vec<f64>,
    /// Evidence of a missing value.
    pub missing: f64,
}

/// A feature cut into groups.
pub(super) struct Banded {
    /// Position of the feature in the design.
    pub feature: usize,
    /// Its column.
    pub column: String,
    /// Its groups.
    pub bands: Bands,
    /// Their information value.
    pub information: f64,
}

impl Banded {
    /// Cuts every feature of the design.
    pub fn all(design: &Design, target: &Target, settings: &ScorecardSettings) -> Vec<Self> {
        let features = design.features().par_iter().enumerate();
        features.map(|(at, feature)| Self::of(at, feature, target, settings)).collect()
    }

    fn of(at: usize, feature: &Feature, target: &Target, settings: &ScorecardSettings) -> Self {
        let cut = Cutting { target, settings, least: settings.least_rows(target) };
        let groups = match &feature.values {
            FeatureValues::Number(values) => ScorecardBins::of_numbers(cut.edges(values), values),
            FeatureValues::Levels { count, codes } => ScorecardBins::Levels { group: cut.level_groups(*count, codes) },
        };
        let (bands, information) = Bands::weighed(groups, &feature.values, target);
        Self { feature: at, column: feature.column.clone(), bands, information }
    }
}

/// What groups must keep to.
struct Cutting<'a> {
    target: &'a Target,
    settings: &'a ScorecardSettings,
    /// Rows of a group at least.
    least: u64,
}

impl Cutting<'_> {
    /// Upper ends of the bands of a number.
    fn edges(&self, values: &[f64]) -> Vec<f64> {
        let edges = band_edges(values.iter().copied().filter(|x| !x.is_nan()), FINEST);
        let mut counts = vec![Count::default(); edges.len() + 1];
        for (x, &event) in values.iter().zip(&self.target.event).filter(|(x, _)| !x.is_nan()) {
            counts[edges.partition_point(|edge| edge < x)].add(event);
        }
        let free = self.filled(&counts, merged(&counts, self.settings.groups));
        let firsts = match self.settings.shape.as_str() {
            "free" => free,
            shape => {
                let ways = [true, false].map(|rising| one_way(&counts, &free, rising));
                let information = |firsts: &[usize]| information_value(&grouped(&counts, firsts));
                let [up, down] = ways;
                let monotone = if information(&up) >= information(&down) { up } else { down };
                let cheap = information(&monotone) >= (1.0 - WORTH_IT) * information(&free);
                if shape == "monotone" || cheap { monotone } else { free }
            }
        };
        firsts.iter().skip(1).map(|first| edges[first - 1]).collect()
    }

    /// The group of every level: levels of like rate together, rare ones with
    /// each other first.
    fn level_groups(&self, count: usize, codes: &[u32]) -> Vec<u16> {
        let mut counts = vec![Count::default(); count];
        for (&code, &event) in codes.iter().zip(&self.target.event) {
            if let Some(level) = counts.get_mut(code as usize) {
                level.add(event);
            }
        }
        let is_rare = |level: usize| counts[level].rows < self.least;
        let rare = (0..count).filter(|&level| is_rare(level)).fold(Count::default(), |sum, l| sum.plus(counts[l]));
        // A place in the order of rates for every frequent level, and one for all rare ones.
        let mut order: Vec<(Option<usize>, Count)> =
            (0..count).filter(|&level| !is_rare(level)).map(|level| (Some(level), counts[level])).collect();
        if rare.rows > 0 {
            order.push((None, rare));
        }
        order.sort_by(|a, b| a.1.rate().total_cmp(&b.1.rate()).then(a.0.cmp(&b.0)));
        let in_order: Vec<Count> = order.iter().map(|o| o.1).collect();
        let firsts = self.filled(&in_order, merged(&in_order, self.settings.groups));
        let group_at = |at: usize| (firsts.partition_point(|&first| first <= at).max(1) - 1) as u16;
        let place = |level: Option<usize>| order.iter().position(|o| o.0 == level).map_or(0, group_at);
        (0..count).map(|level| if is_rare(level) { place(None) } else { place(Some(level)) }).collect()
    }

    /// Puts groups with too few rows together with the neighbour that is more alike.
    fn filled(&self, counts: &[Count], mut firsts: Vec<usize>) -> Vec<usize> {
        loop {
            let groups = grouped(counts, &firsts);
            let few = (0..groups.len()).filter(|&g| groups[g].rows < self.least).min_by_key(|&g| groups[g].rows);
            let Some(few) = few.filter(|_| groups.len() > 1) else { return firsts };
            let apart = |other: usize| (groups[other].rate() - groups[few].rate()).abs();
            let below = few > 0 && (few + 1 == groups.len() || apart(few - 1) <= apart(few + 1));
            firsts.remove(if below { few } else { few + 1 });
        }
    }
}

/// Counts of the groups that begin at these places.
fn grouped(counts: &[Count], firsts: &[usize]) -> Vec<Count> {
    let end = |at: usize| firsts.get(at + 1).copied().unwrap_or(counts.len());
    (0..firsts.len()).map(|at| total(&counts[firsts[at]..end(at)])).collect()
}

/// Puts neighbours together until rates only rise, or only fall (pooling of
/// adjacent violators, Ayer et al. 1955).
fn one_way(counts: &[Count], firsts: &[usize], rising: bool) -> Vec<usize> {
    let mut kept: Vec<(usize, Count)> = Vec::new();
    for (&first, count) in firsts.iter().zip(grouped(counts, firsts)) {
        kept.push((first, count));
        while let [.., (_, before), (_, last)] = kept[..] {
            let in_order = if rising { before.rate() < last.rate() } else { before.rate() > last.rate() };
            if in_order {
                break;
            }
            kept.pop();
            if let Some(group) = kept.last_mut() {
                group.1 = before.plus(last);
            }
        }
    }
    kept.into_iter().map(|(first, _)| first).collect()
}

impl Bands {
    /// The weights of evidence of groups, and their information value, by the
    /// weighted rows (Good 1950; half a row added to either side).
    fn weighed(groups: ScorecardBins, values: &FeatureValues, target: &Target) -> (Self, f64) {
        let mut counts = vec![[0.0f64; 2]; groups.len() + 1];
        for row in 0..target.rows() {
            counts[groups.of(values, row)][usize::from(target.event[row])] += target.weight(row);
        }
        let all = [target.total(false), target.total(true)];
        let mut information = 0.0;
        let mut evidence: Vec<f64> = Vec::with_capacity(counts.len());
        for [others, events] in counts {
            let says =
                if others + events > 0.0 { ((events + 0.5) * all[0] / ((others + 0.5) * all[1])).ln() } else { 0.0 };
            information += (events / all[1] - others / all[0]) * says;
            evidence.push(says);
        }
        let missing = evidence.pop().unwrap_or(0.0);
        (Self { groups, evidence, missing }, information)
    }

    /// What the value of every row says.
    pub fn evidence(&self, values: &FeatureValues, rows: usize) -> Vec<f64> {
        (0..rows).map(|row| self.evidence.get(self.groups.of(values, row)).copied().unwrap_or(self.missing)).collect()
    }
}
