//! One tree, grown leaf by leaf where the gain is greatest.

use std::ops::Range;

use rayon::prelude::*;

use super::binning::{BinScale, Binned, GROUP};
use super::histogram::Histogram;
use super::quantised::{GradientSums, Quantised};
use super::splitting::{Cuttable, Direction, FoundSplit, SplitLimits};
use super::tree::{SplitRule, Tree, TreeNode};

/// Rows that one thread puts to either side of a cut at a time.
const CHUNK: usize = 32_768;

/// Scores that one thread changes at a time.
const BLOCK: usize = 65_536;

/// How a tree is to be grown.
#[derive(Debug, Clone)]
pub struct GrowthLimits {
    /// Leaves at most.
    pub leaves: usize,
    /// What every cut must keep to.
    pub limits: SplitLimits,
    /// Which way leaf values may go as a feature rises, feature by feature.
    pub directions: Vec<Direction>,
    /// What leaf values are multiplied by.
    pub rate: f64,
}

/// Grows trees on one binned design; keeps its buffers from tree to tree.
pub struct Grower<'a> {
    binned: &'a Binned,
    growth: &'a GrowthLimits,
    /// Rows of every leaf side by side, ascending within each.
    rows: Vec<u32>,
    spare: Vec<u32>,
    /// The packed gradients of a node's rows.
    ordered: Vec<i64>,
}

/// A leaf that may still be cut.
struct Leaf {
    node: usize,
    range: Range<usize>,
    bounds: [f64; 2],
    /// Gone once it is known that the leaf is not cut again.
    histogram: Option<Histogram>,
    split: Option<FoundSplit>,
}

/// A tree, and where its rows ended.
pub struct Grown<'g> {
    pub tree: Tree,
    /// Node, and value, and the rows, ascending.
    leaves: Vec<(f64, &'g [u32])>,
    splits: Vec<Option<FoundSplit>>,
}

impl<'a> Grower<'a> {
    pub fn new(binned: &'a Binned, growth: &'a GrowthLimits) -> Self {
        Self { binned, growth, rows: Vec::new(), spare: vec![0; binned.rows], ordered: Vec::new() }
    }

    /// Grows a tree to the gradients of the rows that take part, by the features
    /// allowed.
    pub fn grow(&mut self, quantised: &Quantised, part: Option<&[bool]>, allowed: &[usize]) -> Grown<'_> {
        self.rows.clear();
        match part {
            None => self.rows.extend(0..self.binned.rows as u32),
            Some(part) => self.rows.extend((0..self.binned.rows as u32).filter(|&row| part[row as usize])),
        }
        let packed = |row: &u32| quantised.packed[*row as usize];
        let total = quantised.sums(self.rows.par_iter().map(packed).sum());
        let all = 0..self.rows.len();
        let bounds = [f64::NEG_INFINITY, f64::INFINITY];
        let mut nodes = vec![self.leaf_node(total, bounds, all.len())];
        let mut splits: Vec<Option<FoundSplit>> = vec![None];
        let histogram = match part {
            None => Histogram::of(self.binned, None, &quantised.packed),
            Some(_) => self.histogram(quantised, &all),
        };
        let mut leaves = vec![self.leaf(quantised, allowed, (0, all, bounds, total), histogram)];
        while leaves.len() < self.growth.leaves {
            let Some(at) = widest(&leaves) else { break };
            let leaf = leaves.swap_remove(at);
            let (Some(split), Some(histogram)) = (leaf.split, leaf.histogram) else { break };
            let middle = self.partition(&leaf.range, &split);
            let ranges = [leaf.range.start..middle, middle..leaf.range.end];
            let bounds = self.bounds_of(&split, leaf.bounds);
            let (left, right) = (nodes.len(), nodes.len() + 1);
            nodes.push(self.leaf_node(split.left, bounds[0], ranges[0].len()));
            nodes.push(self.leaf_node(split.right, bounds[1], ranges[1].len()));
            nodes[leaf.node] = self.inner_node(&split, left as u32, right as u32, leaf.range.len() as u32);
            let smaller = usize::from(ranges[1].len() < ranges[0].len());
            let counted = self.histogram(quantised, &ranges[smaller]);
            let rest = histogram.less(&counted);
            let histograms = if smaller == 0 { [counted, rest] } else { [rest, counted] };
            let sums = [split.left, split.right];
            for (side, histogram) in histograms.into_iter().enumerate() {
                let place = (left + side, ranges[side].clone(), bounds[side], sums[side]);
                leaves.push(self.leaf(quantised, allowed, place, histogram));
            }
            splits.extend([None, None]);
            splits[leaf.node] = Some(split);
        }
        let ended = |leaf: &Leaf| match nodes[leaf.node] {
            TreeNode::Leaf { value, .. } => Some((value, &self.rows[leaf.range.clone()])),
            TreeNode::Inner { .. } => None,
        };
        let leaves = leaves.iter().filter_map(ended).collect();
        Grown { tree: Tree { nodes }, leaves, splits }
    }

    fn histogram(&mut self, quantised: &Quantised, range: &Range<usize>) -> Histogram {
        let rows = &self.rows[range.clone()];
        self.ordered.clear();
        self.ordered.par_extend(rows.par_iter().with_min_len(8_192).map(|&row| quantised.packed[row as usize]));
        Histogram::of(self.binned, Some(rows), &self.ordered)
    }

    /// A leaf with its best cut; ties go to the first feature.
    fn leaf(
        &self,
        quantised: &Quantised,
        allowed: &[usize],
        (node, range, bounds, total): (usize, Range<usize>, [f64; 2], GradientSums),
        histogram: Histogram,
    ) -> Leaf {
        let limits = &self.growth.limits;
        if range.len() < 2 * limits.rows_per_leaf {
            return Leaf { node, range, bounds, histogram: None, split: None };
        }
        let cuttable = Cuttable { quantised, total, rows: range.len(), bounds, limits };
        let cuts: Vec<Option<FoundSplit>> = allowed
            .par_iter()
            .with_min_len(4)
            .map(|&feature| {
                let direction = self.growth.directions[feature];
                cuttable.cut(feature, &self.binned.scales[feature], histogram.feature(feature), direction)
            })
            .collect();
        let better = |best: Option<FoundSplit>, cut: FoundSplit| match best {
            Some(best) if best.gain >= cut.gain => Some(best),
            _ => Some(cut),
        };
        let split = cuts.into_iter().flatten().fold(None, better);
        Leaf { node, range, bounds, histogram: split.is_some().then_some(histogram), split }
    }

    /// Puts the rows that go left first, both sides in their old order.
    fn partition(&mut self, range: &Range<usize>, split: &FoundSplit) -> usize {
        let (group, place) = (&self.binned.groups[split.feature / GROUP], split.feature % GROUP);
        let (rows, spare) = (&mut self.rows[range.clone()], &mut self.spare[range.clone()]);
        let parts: Vec<(usize, usize)> = rows
            .par_chunks_mut(CHUNK)
            .zip(spare.par_chunks_mut(CHUNK))
            .map(|(rows, spare)| {
                let (mut left, mut right) = (0, 0);
                for at in 0..rows.len() {
                    let row = rows[at];
                    let goes_left = split.left_bins.contains(group[row as usize][place]);
                    rows[left] = row;
                    spare[right] = row;
                    left += usize::from(goes_left);
                    right += usize::from(!goes_left);
                }
                (left, right)
            })
            .collect();
        let mut middle = 0;
        for (chunk, (left, _)) in parts.iter().enumerate() {
            rows.copy_within(chunk * CHUNK..chunk * CHUNK + left, middle);
            middle += left;
        }
        let mut at = middle;
        for (chunk, (_, right)) in parts.iter().enumerate() {
            rows[at..at + right].copy_from_slice(&spare[chunk * CHUNK..chunk * CHUNK + right]);
            at += right;
        }
        range.start + middle
    }

    /// Between which values the leaves of both sides must lie.
    fn bounds_of(&self, split: &FoundSplit, bounds: [f64; 2]) -> [[f64; 2]; 2] {
        let limits = &self.growth.limits;
        let between = (limits.value(split.left, bounds) + limits.value(split.right, bounds)) / 2.0;
        match self.growth.directions[split.feature] {
            Direction::Free => [bounds, bounds],
            Direction::Rising => [[bounds[0], between], [between, bounds[1]]],
            Direction::Falling => [[between, bounds[1]], [bounds[0], between]],
        }
    }

    fn leaf_node(&self, sums: GradientSums, bounds: [f64; 2], rows: usize) -> TreeNode {
        TreeNode::Leaf { value: self.growth.limits.value(sums, bounds) * self.growth.rate, rows: rows as u32 }
    }

    fn inner_node(&self, split: &FoundSplit, left: u32, right: u32, rows: u32) -> TreeNode {
        let scale = &self.binned.scales[split.feature];
        TreeNode::Inner {
            feature: split.feature as u32,
            cut: SplitRule::of(scale, split),
            missing_left: split.left_bins.contains(scale.used() as u8),
            left,
            right,
            rows,
        }
    }
}

/// The leaf whose cut gains most; the older one on a tie.
fn widest(leaves: &[Leaf]) -> Option<usize> {
    let gain = |at: usize| leaves[at].split.as_ref().map_or(f64::NEG_INFINITY, |s| s.gain);
    (0..leaves.len())
        .filter(|&at| leaves[at].split.is_some())
        .max_by(|&a, &b| gain(a).total_cmp(&gain(b)).then(leaves[b].node.cmp(&leaves[a].node)))
}

impl Grown<'_> {
    /// Adds the tree's values to the scores of all rows of the design it was
    /// grown on; `part` says which of them took part.
    pub fn add_to(&self, binned: &Binned, part: Option<&[bool]>, scores: &mut [f64]) {
        scores.par_chunks_mut(BLOCK).enumerate().for_each(|(block, scores)| {
            let from = (block * BLOCK) as u32;
            for (value, rows) in &self.leaves {
                let here = rows.partition_point(|&row| row < from)
                    ..rows.partition_point(|&row| row < from.saturating_add(BLOCK as u32));
                rows[here].iter().for_each(|&row| scores[(row - from) as usize] += value);
            }
            let Some(part) = part else { return };
            for (at, score) in scores.iter_mut().enumerate() {
                let row = from as usize + at;
                if !part[row] {
                    *score += self.value(binned, row);
                }
            }
        });
    }

    fn value(&self, binned: &Binned, row: usize) -> f64 {
        let mut at = 0;
        loop {
            match (&self.tree.nodes[at], &self.splits[at]) {
                (TreeNode::Inner { left, right, .. }, Some(split)) => {
                    let goes_left = split.left_bins.contains(binned.bin(split.feature, row));
                    at = if goes_left { *left } else { *right } as usize;
                }
                (TreeNode::Leaf { value, .. }, _) => return *value,
                (TreeNode::Inner { .. }, None) => return 0.0,
            }
        }
    }
}

impl SplitRule {
    /// A cut of bins as one of values.
    pub(crate) fn of(scale: &BinScale, split: &FoundSplit) -> Self {
        match (scale, split.last_left) {
            (BinScale::Edges(edges), Some(bin)) => {
                SplitRule::AtMost { threshold: edges.get(usize::from(bin)).copied().unwrap_or(f64::MAX) }
            }
            (scale, _) => {
                let own = 0..scale.used() as u32;
                SplitRule::OneOf { levels: own.filter(|&level| split.left_bins.contains(level as u8)).collect() }
            }
        }
    }
}
