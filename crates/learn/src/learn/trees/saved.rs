//! How a tree is saved: a list for every property of its nodes, which takes a fifth of the room
//! that a list of nodes would.

use serde::{Deserialize, Serialize};

use super::tree::{SplitRule, Tree, TreeNode};

/// The nodes of a tree, property by property.
#[derive(Clone, Serialize, Deserialize)]
pub(super) struct SavedTree {
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
