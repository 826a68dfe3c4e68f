//! A grown tree, and how rows run through it.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::prepare::{Design, FeatureValues};

/// Rows that run through a tree together.
const BLOCK: usize = 2_048;

/// A regression tree; node 0 is the root.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Tree {
    /// All nodes; children stand after their parent.
    pub nodes: Vec<Node>,
}

/// A node of a tree.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Node {
    /// A question with two answers.
    Inner {
        /// Position of the feature in the design.
        feature: u32,
        /// Who goes left.
        cut: Cut,
        /// Whether missing and unknown values go left.
        missing_left: bool,
        /// Node of those who go left.
        left: u32,
        /// Node of the others.
        right: u32,
        /// Training rows that came by.
        rows: u32,
    },
    /// An answer.
    Leaf {
        /// Added to the log-odds.
        value: f64,
        /// Training rows that ended here.
        rows: u32,
    },
}

impl Node {
    /// Training rows that came by.
    pub fn rows(&self) -> u32 {
        match self {
            Node::Inner { rows, .. } | Node::Leaf { rows, .. } => *rows,
        }
    }
}

/// Who goes left at a node.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cut {
    /// Values up to and including the threshold.
    AtMost {
        /// The threshold.
        threshold: f64,
    },
    /// Levels in the set, by code, ascending.
    OneOf {
        /// The set.
        levels: Vec<u32>,
    },
}

impl Tree {
    /// Adds the tree's values to the scores, row by row.
    pub fn add_to(&self, design: &Design, scores: &mut [f64]) {
        scores.par_chunks_mut(BLOCK).enumerate().for_each(|(block, scores)| {
            for (i, score) in scores.iter_mut().enumerate() {
                *score += self.value(design, block * BLOCK + i);
            }
        });
    }

    fn value(&self, design: &Design, row: usize) -> f64 {
        let mut at = 0usize;
        loop {
            match &self.nodes[at] {
                Node::Leaf { value, .. } => return *value,
                Node::Inner { feature, cut, missing_left, left, right, .. } => {
                    let goes_left = match (cut, &design.features()[*feature as usize].values) {
                        (Cut::AtMost { threshold }, FeatureValues::Number(v)) => {
                            if v[row].is_nan() {
                                *missing_left
                            } else {
                                v[row] <= *threshold
                            }
                        }
                        (Cut::OneOf { levels }, FeatureValues::Levels { count, codes }) => {
                            let code = codes[row];
                            if (code as usize) < (*count).min(super::binning::BINS) {
                                levels.binary_search(&code).is_ok()
                            } else {
                                *missing_left
                            }
                        }
                        _ => *missing_left,
                    };
                    at = if goes_left { *left } else { *right } as usize;
                }
            }
        }
    }
}
