//! Trees as expressions.

use super::definitions::{Asked, Trees};
use super::nodes::{compare, number};
use pronoia_data::expression::{Comparison, Node};
use pronoia_learn::learn::{Cut, Node as Fork, Tree};

/// A question of a tree as a condition: those for whom it is true go one way, and all others, be
/// their value missing or unknown, the other.
pub(super) struct Question {
    /// The condition; never true of a missing value.
    pub condition: Node,
    /// Whether those for whom it is true go left.
    pub true_left: bool,
}

impl Trees {
    /// The question at a fork; `feature` is what it asks.
    pub fn question(&self, feature: u32, cut: &Cut, missing_left: bool) -> Question {
        // Whoever says nothing goes with those of whom the condition is not true.
        let true_left = !missing_left;
        let condition = match (cut, &self.features[feature as usize]) {
            (Cut::AtMost { threshold }, Asked::Number(place)) => {
                let how = if true_left { Comparison::LessOrEqual } else { Comparison::Greater };
                compare(how, Node::Column(*place), number(*threshold))
            }
            (Cut::OneOf { levels }, Asked::Levels(bound, known)) => {
                let goes_left = |code: usize| levels.binary_search(&(code as u32)).is_ok();
                let of = known.iter().enumerate().filter(|(code, _)| goes_left(*code) == true_left);
                bound.is_one_of(of.map(|(_, level)| level.as_str()))
            }
            _ => Node::Truth(false),
        };
        Question { condition, true_left }
    }

    /// A tree as nested conditions, from one of its forks down.
    pub fn nested(&self, tree: &Tree, at: usize) -> Node {
        match &tree.nodes[at] {
            Fork::Leaf { value, .. } => number(*value),
            Fork::Inner { feature, cut, missing_left, left, right, .. } => {
                let Question { condition, true_left } = self.question(*feature, cut, *missing_left);
                let [left, right] = [left, right].map(|child| self.nested(tree, *child as usize));
                let (then, otherwise) = if true_left { (left, right) } else { (right, left) };
                Node::Case(vec![(condition, then)], Box::new(otherwise))
            }
        }
    }
}
