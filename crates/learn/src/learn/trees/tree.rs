//! A grown tree, and how rows run through it.

use serde::{Deserialize, Serialize};

use super::binning::BINS;
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

/// The saved form of a tree: a list for every property of its nodes, a fifth of the size of a list of nodes.
#[derive(Clone, Serialize, Deserialize)]
struct SavedTree {
    /// Left child; 0 for a leaf, as nobody has the root as a child. The right child comes next.
    left: Vec<u32>,
    /// Training rows that came by.
    rows: Vec<u32>,
    /// Threshold, or 0 where levels are listed, or the value of a leaf.
    at: Vec<f64>,
    /// Position of the feature; 0 for a leaf.
    feature: Vec<u32>,
    /// Nodes at which missing and unknown values go left.
    missing_left: Vec<u32>,
    /// Nodes that ask for levels, with those that go left.
    levels: Vec<(u32, Vec<u32>)>,
}

impl From<Tree> for SavedTree {
    fn from(tree: Tree) -> Self {
        let mut saved =
            Self { left: vec![], rows: vec![], at: vec![], feature: vec![], missing_left: vec![], levels: vec![] };
        for (at, node) in (0u32..).zip(tree.nodes) {
            saved.rows.push(node.rows());
            let (left, value, feature) = match node {
                TreeNode::Leaf { value, .. } => (0, value, 0),
                TreeNode::Inner { feature, cut, missing_left, left, .. } => {
                    if missing_left {
                        saved.missing_left.push(at);
                    }
                    match cut {
                        SplitRule::AtMost { threshold } => (left, threshold, feature),
                        SplitRule::OneOf { levels } => {
                            saved.levels.push((at, levels));
                            (left, 0.0, feature)
                        }
                    }
                }
            };
            saved.left.push(left);
            saved.at.push(value);
            saved.feature.push(feature);
        }
        saved
    }
}

impl TryFrom<SavedTree> for Tree {
    type Error = String;

    fn try_from(saved: SavedTree) -> Result<Self, String> {
        let nodes = saved.left.len();
        let lists = [saved.rows.len(), saved.at.len(), saved.feature.len()];
        // Children stand after their parent, so that every way down ends.
        let is_tree = |(at, left): (usize, &u32)| *left == 0 || (*left as usize > at && *left as usize + 1 < nodes);
        if nodes == 0 || lists.iter().any(|&n| n != nodes) || !saved.left.iter().enumerate().all(is_tree) {
            return Err("a tree is damaged".into());
        }
        let node = |at: usize| {
            let (rows, left) = (saved.rows[at], saved.left[at]);
            if left == 0 {
                return TreeNode::Leaf { value: saved.at[at], rows };
            }
            let key = at as u32;
            let cut = match saved.levels.binary_search_by_key(&key, |l| l.0) {
                Ok(found) => SplitRule::OneOf { levels: saved.levels[found].1.clone() },
                Err(_) => SplitRule::AtMost { threshold: saved.at[at] },
            };
            let missing_left = saved.missing_left.binary_search(&key).is_ok();
            TreeNode::Inner { feature: saved.feature[at], cut, missing_left, left, right: left + 1, rows }
        };
        Ok(Self { nodes: (0..nodes).map(node).collect() })
    }
}
