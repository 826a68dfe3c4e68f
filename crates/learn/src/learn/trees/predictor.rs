//! Many trees at once: rows cut into bins, trees as flat arrays.
//!
//! Only comparisons with the thresholds that the trees use matter, so that a
//! value is replaced by its rank among them, once for all trees. Rows then run
//! through one tree after another in blocks that stay in the cache; small trees
//! are asked feature by feature instead.

use rayon::prelude::*;

use super::binning::BINS;
use super::bitwise::{self, Bitwise, Ranks};
use super::tree::{SplitRule, Tree, TreeNode};
use crate::prepare::{Design, FeatureValues};

/// Rows that run through the trees together.
const BLOCK: usize = 256;

/// Rows whose ways through a tree are followed side by side.
const LANES: usize = 16;

/// Rank of a missing value, and of a level that was never seen. As a level it is
/// the last of a set, which no level of a column is.
const MISSING: u16 = u16::MAX;

/// Trees made ready to add up their values over many rows.
pub struct Predictor {
    nodes: Vec<FlatNode>,
    values: Vec<f64>,
    trees: Vec<FlatTree>,
    /// Levels that go left, one bit each; the first set is empty.
    sets: Vec<[u64; 4]>,
    /// For each feature, the thresholds that occur, ascending.
    thresholds: Vec<Vec<f64>>,
    /// The same trees as bits, if all of them are small.
    bitwise: Option<Bitwise>,
}

struct FlatTree {
    root: u32,
    depth: u32,
}

/// A node. Its right child comes next after its left one; a leaf is its own
/// left child, and everybody goes left.
#[derive(Clone, Copy)]
struct FlatNode {
    feature: u16,
    /// The greatest rank that goes left.
    most: u16,
    left: u32,
    /// The set of levels that go left, if it asks for levels.
    set: u32,
    asks_for_levels: bool,
    missing_left: bool,
}

impl Predictor {
    /// Makes the trees ready; `features` is the number of features of the design.
    pub fn of<'t>(trees: impl IntoIterator<Item = &'t Tree> + Clone, features: usize) -> Self {
        let mut thresholds: Vec<Vec<f64>> = vec![Vec::new(); features];
        for node in trees.clone().into_iter().flat_map(|t| &t.nodes) {
            if let TreeNode::Inner { feature, cut: SplitRule::AtMost { threshold }, .. } = node {
                thresholds[*feature as usize].push(*threshold);
            }
        }
        for of_feature in &mut thresholds {
            of_feature.sort_unstable_by(f64::total_cmp);
            of_feature.dedup();
        }
        let rank_of = |feature: usize, threshold| thresholds[feature].partition_point(|t| *t < threshold);
        let bitwise = Bitwise::of(trees.clone().into_iter(), features, rank_of);
        let is_small = bitwise.is_some();
        let mut flat = Self { nodes: vec![], values: vec![], trees: vec![], sets: vec![[0; 4]], thresholds, bitwise };
        if is_small {
            return flat;
        }
        trees.into_iter().for_each(|tree| flat.push(tree));
        flat
    }

    fn push(&mut self, tree: &Tree) {
        let root = self.nodes.len() as u32;
        let mut deep = vec![0u32; tree.nodes.len()];
        for (at, node) in tree.nodes.iter().enumerate() {
            let here = root + at as u32;
            let leaf =
                FlatNode { feature: 0, most: MISSING, left: here, set: 0, asks_for_levels: false, missing_left: true };
            let (flat, value) = match node {
                TreeNode::Leaf { value, .. } => (leaf, *value),
                TreeNode::Inner { feature, cut, missing_left, left, right, .. } => {
                    debug_assert_eq!(left + 1, *right, "children stand side by side");
                    [left, right].into_iter().for_each(|child| deep[*child as usize] = deep[at] + 1);
                    let inner =
                        FlatNode { feature: *feature as u16, left: root + left, missing_left: *missing_left, ..leaf };
                    let inner = match cut {
                        SplitRule::AtMost { threshold } => {
                            let of_feature = &self.thresholds[*feature as usize];
                            FlatNode { most: of_feature.partition_point(|t| t < threshold) as u16, ..inner }
                        }
                        SplitRule::OneOf { levels } => {
                            let missing = missing_left.then_some(u32::from(MISSING));
                            let mut set = [0u64; 4];
                            levels
                                .iter()
                                .copied()
                                .chain(missing)
                                .for_each(|l| set[(l >> 6) as usize & 3] |= 1 << (l & 63));
                            self.sets.push(set);
                            FlatNode { set: self.sets.len() as u32 - 1, asks_for_levels: true, ..inner }
                        }
                    };
                    (inner, 0.0)
                }
            };
            self.nodes.push(flat);
            self.values.push(value);
        }
        self.trees.push(FlatTree { root, depth: deep.into_iter().max().unwrap_or(0) });
    }

    /// Adds the values of all trees to the scores, row by row, in the order of
    /// the trees.
    pub fn add_to(&self, design: &Design, scores: &mut [f64]) {
        if let Some(bitwise) = &self.bitwise {
            return self.add_bitwise(bitwise, design, scores);
        }
        let width = design.features().len();
        scores.par_chunks_mut(BLOCK).enumerate().for_each_init(
            || vec![0u16; BLOCK * width],
            |ranks, (block, scores)| {
                self.rank(design, block * BLOCK, scores.len(), |row, feature, rank| {
                    ranks[row * width + feature] = rank;
                });
                for tree in &self.trees {
                    for (lanes, scores) in ranks.chunks_exact(LANES * width).zip(scores.chunks_mut(LANES)) {
                        let ended = self.run(tree, lanes, width);
                        scores.iter_mut().zip(ended).for_each(|(score, at)| *score += self.values[at as usize]);
                    }
                }
            },
        );
    }

    fn add_bitwise(&self, bitwise: &Bitwise, design: &Design, scores: &mut [f64]) {
        const LANES: usize = bitwise::LANES;
        let width = design.features().len();
        scores.par_chunks_mut(BLOCK).enumerate().for_each_init(
            || (vec![Ranks::NONE; BLOCK / LANES * width], bitwise.room()),
            |(ranks, left), (block, scores)| {
                self.rank(design, block * BLOCK, scores.len(), |row, feature, rank| {
                    ranks[row / LANES * width + feature].put(row % LANES, rank);
                });
                for (ranks, scores) in ranks.chunks_exact(width).zip(scores.chunks_mut(LANES)) {
                    bitwise.add_to(ranks, left, scores);
                }
            },
        );
    }

    /// Hands on the ranks of `rows` rows from `start` on: row, feature, rank.
    fn rank(&self, design: &Design, start: usize, rows: usize, mut put: impl FnMut(usize, usize, u16)) {
        for (feature, thresholds) in self.thresholds.iter().enumerate() {
            let mut put = |at: usize, rank: u16| put(at, feature, rank);
            match &design.features()[feature].values {
                FeatureValues::Number(v) => {
                    for (at, x) in v[start..start + rows].iter().enumerate() {
                        let rank = thresholds.partition_point(|t| t < x) as u16;
                        put(at, if x.is_nan() { MISSING } else { rank });
                    }
                }
                FeatureValues::Levels { count, codes } => {
                    let own = (*count).min(BINS) as u32;
                    for (at, &code) in codes[start..start + rows].iter().enumerate() {
                        put(at, if code < own { code as u16 } else { MISSING });
                    }
                }
            }
        }
    }

    /// The nodes in which the rows of these ranks end. No step depends on what a
    /// row turned out to be, so that the processor never has to guess.
    fn run(&self, tree: &FlatTree, ranks: &[u16], width: usize) -> [u32; LANES] {
        let mut at = [tree.root; LANES];
        for _ in 0..tree.depth {
            let mut moved = 0;
            for (lane, at) in at.iter_mut().enumerate() {
                let node = self.nodes[*at as usize];
                let rank = ranks[lane * width + usize::from(node.feature)];
                let low = (rank <= node.most) | ((rank == MISSING) & node.missing_left);
                let level = self.sets[node.set as usize][usize::from(rank >> 6) & 3] >> (rank & 63) & 1 == 1;
                let left = (low & !node.asks_for_levels) | (level & node.asks_for_levels);
                let next = node.left + u32::from(!left);
                moved |= next ^ *at;
                *at = next;
            }
            if moved == 0 {
                break;
            }
        }
        at
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::learn::boosting::BoostedSettings;
    use crate::learn::setting::Tunable;
    use crate::learn::{Target, seed_of};
    use crate::prepare::Feature;
    use pronoia_data::progress::Unwatched;

    const ROWS: usize = 700;

    /// Numbers with and without gaps, and levels of which some are missing or unknown.
    fn design(seed: u64) -> Design {
        let draw = |feature: usize, row: usize| seed_of(seed + feature as u64, row * 7_919) >> 20;
        let number = |feature: usize, gaps: bool| {
            let value = |row: usize| match draw(feature, row) % 1_000 {
                x if gaps && x < 150 => f64::NAN,
                x => x as f64 / 10.0,
            };
            Feature::number("number", "number", (0..ROWS).map(value).collect())
        };
        let level = |row: usize| match draw(9, row) % 70 {
            x if x < 60 => x as u32,
            x if x < 65 => Feature::MISSING,
            _ => Feature::UNKNOWN,
        };
        let levels = Feature::levels("level", "level", 60, (0..ROWS).map(level).collect());
        Design::new(vec![number(1, false), number(2, true), levels, number(3, true)], ROWS)
    }

    #[test]
    fn trees_asked_side_by_side_say_what_each_says_of_a_row_by_itself() {
        let learned = design(1);
        let event: Vec<bool> = (0..ROWS).map(|row| seed_of(77, row) % 5 < 2).collect();
        for leaves in ["2", "31", "32", "33", "90"] {
            let mut settings = BoostedSettings::default();
            for (name, value) in [("leaves", leaves), ("rows-per-leaf", "3"), ("trees", "12"), ("early-stopping", "no")]
            {
                settings.set(name, value).expect("a setting");
            }
            let fit = settings.check().expect("settings").fit(&learned, &Target::plain(event.clone()), 5, &Unwatched);
            let trees = fit.expect("a fit").trees;
            let predictor = Predictor::of(&trees, 4);
            let small = trees.iter().all(|tree| tree.leaves() <= 32);
            assert_eq!(predictor.bitwise.is_some(), small, "{leaves}");
            for others in [design(1), design(40)] {
                let mut scores = vec![0.5; ROWS];
                predictor.add_to(&others, &mut scores);
                for (row, score) in scores.iter().enumerate() {
                    let alone = trees.iter().fold(0.5, |sum, tree| sum + tree.value(&others, row));
                    assert_eq!(*score, alone, "{leaves} leaves, row {row}");
                }
            }
        }
    }
}
