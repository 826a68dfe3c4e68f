//! Trees as expressions.

use super::definitions::{SplitFeature, Trees};
use super::nodes::{compare, number};
use pronoia_data::expression::{Comparison, ExpressionNode};
use pronoia_learn::learn::{SplitRule, Tree, TreeNode};

/// A question of a tree as a condition: those for whom it is true go one way, and all others, be
/// their value missing or unknown, the other.
pub(super) struct SplitCondition {
    /// The condition; never true of a missing value.
    pub condition: ExpressionNode,
    /// Whether those for whom it is true go left.
    pub true_left: bool,
}

impl Trees {
    /// The question at a fork; `feature` is what it asks.
    pub fn question(&self, feature: u32, cut: &SplitRule, missing_left: bool) -> SplitCondition {
        // Whoever says nothing goes with those of whom the condition is not true.
        let true_left = !missing_left;
        let condition = match (cut, &self.features[feature as usize]) {
            (SplitRule::AtMost { threshold }, SplitFeature::Number(place)) => {
                let how = if true_left { Comparison::LessOrEqual } else { Comparison::Greater };
                compare(how, ExpressionNode::Column(*place), number(*threshold))
            }
            (SplitRule::OneOf { levels }, SplitFeature::Levels(bound, known)) => {
                let goes_left = |code: usize| levels.binary_search(&(code as u32)).is_ok();
                let of = known.iter().enumerate().filter(|(code, _)| goes_left(*code) == true_left);
                bound.is_one_of(of.map(|(_, level)| level.as_str()))
            }
            _ => ExpressionNode::Truth(false),
        };
        SplitCondition { condition, true_left }
    }

    /// A tree as nested conditions, from one of its forks down.
    pub fn nested(&self, tree: &Tree, at: usize) -> ExpressionNode {
        match &tree.nodes[at] {
            TreeNode::Leaf { value, .. } => number(*value),
            TreeNode::Inner { feature, cut, missing_left, left, right, .. } => {
                let SplitCondition { condition, true_left } = self.question(*feature, cut, *missing_left);
                let [left, right] = [left, right].map(|child| self.nested(tree, *child as usize));
                let (then, otherwise) = if true_left { (left, right) } else { (right, left) };
                ExpressionNode::Case(vec![(condition, then)], Box::new(otherwise))
            }
        }
    }
}
