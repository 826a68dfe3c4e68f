//! Quick segments: a small tree of customers with like event rates, and how
//! firmly it stands.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::grouping::{Bin, Grouping, RateGroup};
use crate::Progress;
use crate::progress::Cancelled;
use crate::stats::{Count, chi_square};
use crate::table::Column;

/// Splits on the way from all customers to a segment, at most.
const DEEPEST: usize = 3;

/// Share of all customers that a segment has at least.
const SMALLEST: f64 = 0.03;

/// Events that a segment has at least.
const FEWEST_EVENTS: u64 = 10;

/// Pearson's statistic that a split must reach: its 0.999 quantile for one
/// degree of freedom, since many splits are tried.
const NEEDED: f64 = 10.828;

/// Times that the tree is grown anew on rows drawn with replacement.
const RESAMPLES: usize = 40;

/// A part of the customers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Segment {
    /// The column of the split that made it; none for all customers.
    pub column: Option<String>,
    /// The groups of that column whose customers are in it.
    pub groups: Vec<RateGroup>,
    /// Customers and events.
    pub count: Count,
    /// How many resamples of a hundred split the segment above by the same
    /// column; 100 for all customers.
    pub stability: f64,
    /// Its parts; none or two.
    pub parts: Vec<Segment>,
}

impl Segment {
    /// The condition that made it, in words: “months_since_visit: 8 and more”.
    pub fn condition(&self) -> Option<String> {
        let column = self.column.as_ref()?;
        Some(format!("{column}: {}", worded(&self.groups)))
    }
}

/// The groups in words: neighbouring bands as one, values with “or” between.
fn worded(groups: &[RateGroup]) -> String {
    let bands: Vec<Bin> = groups.iter().filter_map(RateGroup::band).collect();
    let mut words: Vec<String> = groups.iter().filter(|g| g.band().is_none()).map(|g| g.label.clone()).collect();
    if let (Some(first), Some(last)) = (bands.first(), bands.last()) {
        words.insert(0, Bin { up_to: last.up_to, ..*first }.label());
    }
    words.join(" or ")
}

/// The tree.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Segments {
    /// All customers, with their parts.
    pub all: Segment,
}

/// Columns as codes, and what happened; rows are told apart by `weight`, the
/// number of times each was drawn.
struct SegmentSample<'a> {
    columns: &'a [(&'a Column, Grouping)],
    event: &'a [bool],
    weight: Vec<u32>,
}

struct SegmentSplit {
    column: usize,
    left: Vec<bool>,
    statistic: f64,
}

impl Segments {
    /// Grows the tree on the rows that were grouped.
    ///
    /// At every step the split is taken that separates the event rates most by
    /// Pearson's statistic. The groups of a column are ordered by their rate
    /// first, which finds the best of all ways of dividing them in two (Fisher
    /// 1958; Breiman et al. 1984, section 9.4); bands keep their own order.
    ///
    /// # Errors
    /// [`Cancelled`].
    pub(super) fn of(
        columns: &[(&Column, Grouping)],
        event: &[bool],
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Self, Cancelled> {
        progress.tell("Finding segments", 0.0);
        let whole = SegmentSample { columns, event, weight: vec![1; event.len()] };
        let rows: Vec<u32> = (0..event.len() as u32).collect();
        let mut all = whole.segment(None, Vec::new(), &rows);
        whole.divide(&mut all, &rows, 0);
        progress.go_on()?;
        progress.tell("Measuring their stability on bootstrap samples", 0.2);
        let drawn: Vec<u64> = (0..RESAMPLES as u64).collect();
        let votes: Vec<Votes> = drawn
            .par_iter()
            .map(|draw| {
                progress.go_on()?;
                let sample = whole.resampled(seed ^ (draw + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15));
                let mut votes = Votes::default();
                sample.vote(&all, &rows, &mut votes);
                Ok(votes)
            })
            .collect::<Result<_, Cancelled>>()?;
        let mut at = 0;
        settle(&mut all, &votes, &mut at);
        Ok(Self { all })
    }
}

/// For every split of the tree, in order, whether a resample splits there by
/// the same column.
#[derive(Default)]
struct Votes(Vec<bool>);

/// Writes the share of votes beside the parts of every split.
fn settle(segment: &mut Segment, votes: &[Votes], at: &mut usize) {
    if segment.parts.is_empty() {
        return;
    }
    let mine = *at;
    *at += 1;
    let agree = votes.iter().filter(|v| v.0.get(mine).copied().unwrap_or(false)).count();
    let share = 100.0 * agree as f64 / votes.len().max(1) as f64;
    for part in &mut segment.parts {
        part.stability = share;
        settle(part, votes, at);
    }
}

impl<'a> SegmentSample<'a> {
    fn resampled(&self, seed: u64) -> SegmentSample<'a> {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let n = self.event.len();
        let mut weight = vec![0; n];
        (0..n).for_each(|_| weight[rng.random_range(0..n)] += 1);
        SegmentSample { columns: self.columns, event: self.event, weight }
    }

    fn count(&self, rows: &[u32]) -> Count {
        let mut count = Count::default();
        for &row in rows {
            count.add_times(self.event[row as usize], self.weight[row as usize]);
        }
        count
    }

    fn segment(&self, column: Option<String>, groups: Vec<RateGroup>, rows: &[u32]) -> Segment {
        Segment { column, groups, count: self.count(rows), stability: 100.0, parts: Vec::new() }
    }

    fn divide(&self, segment: &mut Segment, rows: &[u32], depth: usize) {
        if depth == DEEPEST {
            return;
        }
        let Some(split) = self.best(rows) else { return };
        let (column, grouping) = &self.columns[split.column];
        let mut present = vec![false; grouping.groups.len()];
        rows.iter().for_each(|&row| present[usize::from(grouping.codes[row as usize])] = true);
        for side in [true, false] {
            let part = self.side(&split, rows, side);
            let inside = |&at: &usize| present[at] && split.left[at] == side;
            let groups = (0..present.len()).filter(inside).map(|at| grouping.groups[at].clone()).collect();
            let mut made = self.segment(Some(column.name.clone()), groups, &part);
            self.divide(&mut made, &part, depth + 1);
            segment.parts.push(made);
        }
        segment.parts.sort_by(|a, b| b.count.rate().total_cmp(&a.count.rate()));
    }

    fn side(&self, split: &SegmentSplit, rows: &[u32], left: bool) -> Vec<u32> {
        let codes = &self.columns[split.column].1.codes;
        rows.iter().copied().filter(|&row| split.left[usize::from(codes[row as usize])] == left).collect()
    }

    /// Votes at every split of `segment` whether this sample splits by the same
    /// column, then follows the tree as it stands.
    fn vote(&self, segment: &Segment, rows: &[u32], votes: &mut Votes) {
        let Some(name) = segment.parts.first().and_then(|p| p.column.as_ref()) else { return };
        let best = self.best(rows);
        votes.0.push(best.is_some_and(|split| self.columns[split.column].0.name == *name));
        for part in &segment.parts {
            let Some(at) = self.columns.iter().position(|(c, _)| c.name == *name) else { continue };
            let grouping = &self.columns[at].1;
            let inside: Vec<bool> = grouping.groups.iter().map(|g| part.groups.contains(g)).collect();
            let below: Vec<u32> =
                rows.iter().copied().filter(|&row| inside[usize::from(grouping.codes[row as usize])]).collect();
            self.vote(part, &below, votes);
        }
    }

    fn best(&self, rows: &[u32]) -> Option<SegmentSplit> {
        let all = self.count(rows);
        let least = (SMALLEST * self.event.len() as f64).max(1.0) as u64;
        let splits = (0..self.columns.len()).filter_map(|column| self.best_of(column, rows, all, least));
        splits.max_by(|a, b| a.statistic.total_cmp(&b.statistic).then(b.column.cmp(&a.column)))
    }

    fn best_of(&self, column: usize, rows: &[u32], all: Count, least: u64) -> Option<SegmentSplit> {
        let grouping = &self.columns[column].1;
        let mut counts = vec![Count::default(); grouping.groups.len()];
        for &row in rows {
            let row = row as usize;
            counts[usize::from(grouping.codes[row])].add_times(self.event[row], self.weight[row]);
        }
        let mut order: Vec<usize> = (0..counts.len()).filter(|&g| counts[g].rows > 0).collect();
        let banded = grouping.groups.iter().any(|g| g.band().is_some());
        if !banded {
            order.sort_by(|&a, &b| counts[a].rate().total_cmp(&counts[b].rate()).then(a.cmp(&b)));
        }
        let mut best: Option<(usize, f64)> = None;
        let mut left = Count::default();
        for (at, &group) in order.iter().enumerate() {
            left = left.plus(counts[group]);
            let right = Count { rows: all.rows - left.rows, events: all.events - left.events };
            let enough = |c: Count| c.rows >= least && c.events >= FEWEST_EVENTS;
            let statistic = chi_square(left, right);
            if enough(left) && enough(right) && statistic >= NEEDED && best.is_none_or(|(_, s)| statistic > s) {
                best = Some((at, statistic));
            }
        }
        let (at, statistic) = best?;
        let mut side = vec![false; counts.len()];
        order[..=at].iter().for_each(|&group| side[group] = true);
        Some(SegmentSplit { column, left: side, statistic })
    }
}
