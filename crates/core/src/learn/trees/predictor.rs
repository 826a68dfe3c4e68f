//! Many trees at once: rows cut into bins, trees as flat arrays.
//!
//! Only comparisons with the thresholds that the trees use matter, so that a
//! value is replaced by its rank among them, once for all trees. Rows then run
//! through one tree after another in blocks that stay in the cache.

use rayon::prelude::*;

use super::binning::BINS;
use super::tree::{Cut, Node, Tree};
use crate::prepare::{Design, FeatureValues};

/// Rows that run through the trees together.
const BLOCK: usize = 256;

/// Rows whose ways through a tree are followed side by side.
const LANES: usize = 8;

/// Rank of a missing value, and of a level that was never seen.
const MISSING: u16 = u16::MAX;

/// Trees made ready to add up their values over many rows.
pub struct Predictor {
    nodes: Vec<FlatNode>,
    values: Vec<f64>,
    trees: Vec<FlatTree>,
    /// Levels that go left, one bit each.
    sets: Vec<[u64; 4]>,
    /// For each feature, the thresholds that occur, ascending.
    thresholds: Vec<Vec<f64>>,
}

struct FlatTree {
    root: u32,
    depth: u32,
}

/// A node; a leaf is its own child on both sides.
#[derive(Clone, Copy)]
struct FlatNode {
    feature: u16,
    /// The greatest rank that goes left.
    most: u16,
    /// Which set of levels goes left, or `NO_SET`.
    set: u32,
    /// Right child, and left child.
    children: [u32; 2],
    missing_left: bool,
}

const NO_SET: u32 = u32::MAX;

impl Predictor {
    /// Makes the trees ready; `features` is the number of features of the design.
    pub fn of<'t>(trees: impl IntoIterator<Item = &'t Tree> + Clone, features: usize) -> Self {
        let mut thresholds: Vec<Vec<f64>> = vec![Vec::new(); features];
        for node in trees.clone().into_iter().flat_map(|t| &t.nodes) {
            if let Node::Inner { feature, cut: Cut::AtMost { threshold }, .. } = node {
                thresholds[*feature as usize].push(*threshold);
            }
        }
        for of_feature in &mut thresholds {
            of_feature.sort_unstable_by(f64::total_cmp);
            of_feature.dedup();
        }
        let mut flat = Self { nodes: vec![], values: vec![], trees: vec![], sets: vec![], thresholds };
        trees.into_iter().for_each(|tree| flat.push(tree));
        flat
    }

    fn push(&mut self, tree: &Tree) {
        let root = self.nodes.len() as u32;
        let mut deep = vec![0u32; tree.nodes.len()];
        for (at, node) in tree.nodes.iter().enumerate() {
            let here = root + at as u32;
            let (flat, value) = match node {
                Node::Leaf { value, .. } => {
                    let children = [here, here];
                    (FlatNode { feature: 0, most: 0, set: NO_SET, children, missing_left: false }, *value)
                }
                Node::Inner { feature, cut, missing_left, left, right, .. } => {
                    [left, right].into_iter().for_each(|child| deep[*child as usize] = deep[at] + 1);
                    let (most, set) = match cut {
                        Cut::AtMost { threshold } => {
                            let of_feature = &self.thresholds[*feature as usize];
                            (of_feature.partition_point(|t| t < threshold) as u16, NO_SET)
                        }
                        Cut::OneOf { levels } => {
                            let mut set = [0u64; 4];
                            levels.iter().for_each(|l| set[(l >> 6) as usize & 3] |= 1 << (l & 63));
                            self.sets.push(set);
                            (0, self.sets.len() as u32 - 1)
                        }
                    };
                    let children = [root + right, root + left];
                    (FlatNode { feature: *feature as u16, most, set, children, missing_left: *missing_left }, 0.0)
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
        let width = design.features().len();
        scores.par_chunks_mut(BLOCK).enumerate().for_each_init(
            || vec![0u16; BLOCK * width],
            |ranks, (block, scores)| {
                self.rank(design, block * BLOCK, scores.len(), ranks);
                for tree in &self.trees {
                    for (lane, scores) in scores.chunks_mut(LANES).enumerate() {
                        self.run(tree, &ranks[lane * LANES * width..], width, scores);
                    }
                }
            },
        );
    }

    /// Ranks of `rows` rows from `start` on, row by row.
    fn rank(&self, design: &Design, start: usize, rows: usize, ranks: &mut [u16]) {
        let width = design.features().len();
        for (feature, thresholds) in self.thresholds.iter().enumerate() {
            let mut put = |at: usize, rank: u16| ranks[at * width + feature] = rank;
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

    fn run(&self, tree: &FlatTree, ranks: &[u16], width: usize, scores: &mut [f64]) {
        let mut at = [tree.root; LANES];
        let rows = scores.len();
        for _ in 0..tree.depth {
            for (lane, at) in at[..rows].iter_mut().enumerate() {
                let node = &self.nodes[*at as usize];
                let rank = ranks[lane * width + usize::from(node.feature)];
                let left = if node.set == NO_SET {
                    rank <= node.most || (rank == MISSING && node.missing_left)
                } else if rank == MISSING {
                    node.missing_left
                } else {
                    self.sets[node.set as usize][usize::from(rank >> 6) & 3] >> (rank & 63) & 1 == 1
                };
                *at = node.children[usize::from(left)];
            }
        }
        scores.iter_mut().zip(at).for_each(|(score, at)| *score += self.values[at as usize]);
    }
}
