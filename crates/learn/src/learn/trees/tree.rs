//! A grown tree, and how rows run through it.

use serde::{Deserialize, Serialize};

use super::binning::BINS;
use super::saved::SavedTree;
use crate::prepare::{Design, FeatureValues};

/// A tree; node 0 is the root.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(into = "SavedTree", try_from = "SavedTree")]
pub struct Tree {
    /// All nodes; children stand after their parent.
    pub nodes: Vec<TreeNode>,
}

/// A node of a tree.
#[derive(Debug, Clone, PartialEq)]
pub enum TreeNode {
    /// A question with two answers.
    Inner {
        /// Position of the feature in the design.
        feature: u32,
        /// Who goes left.
        cut: SplitRule,
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
        /// What it says of its rows.
        value: f64,
        /// Training rows that ended here.
        rows: u32,
    },
}

impl TreeNode {
    /// Training rows that came by.
    pub fn rows(&self) -> u32 {
        match self {
            TreeNode::Inner { rows, .. } | TreeNode::Leaf { rows, .. } => *rows,
        }
    }
}

/// Who goes left at a node.
#[derive(Debug, Clone, PartialEq)]
pub enum SplitRule {
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
    /// The node in which a row of the design ends.
    pub fn leaf_of(&self, design: &Design, row: usize) -> usize {
        let mut at = 0usize;
        while let TreeNode::Inner { feature, cut, missing_left, left, right, .. } = &self.nodes[at] {
            let values = &design.features()[*feature as usize].values;
            at = if cut.goes_left(values, row).unwrap_or(*missing_left) { *left } else { *right } as usize;
        }
        at
    }

    /// The value of the leaf in which a row of the design ends.
    pub fn value(&self, design: &Design, row: usize) -> f64 {
        match self.nodes[self.leaf_of(design, row)] {
            TreeNode::Leaf { value, .. } => value,
            TreeNode::Inner { .. } => 0.0,
        }
    }

    /// Number of leaves.
    pub fn leaves(&self) -> usize {
        self.nodes.iter().filter(|node| matches!(node, TreeNode::Leaf { .. })).count()
    }
}

impl SplitRule {
    /// Whether a row goes left; none where its value is missing or was never
    /// seen.
    pub fn goes_left(&self, values: &FeatureValues, row: usize) -> Option<bool> {
        match (self, values) {
            (SplitRule::AtMost { threshold }, FeatureValues::Number(v)) => {
                (!v[row].is_nan()).then_some(v[row] <= *threshold)
            }
            (SplitRule::OneOf { levels }, FeatureValues::Levels { count, codes }) => {
                let known = (codes[row] as usize) < (*count).min(BINS);
                known.then(|| levels.binary_search(&codes[row]).is_ok())
            }
            _ => None,
        }
    }
}
