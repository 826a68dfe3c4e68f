//! Expressions that only look a value up.

use pronoia_data::expression::ExpressionNode;

/// An expression that is a constant for every value of one column.
pub(super) struct ValueLookup<'n> {
    /// Place of the column.
    pub of: usize,
    /// What a missing value gives.
    pub missing: &'n ExpressionNode,
    /// Constants with what they give.
    pub entries: Vec<(&'n ExpressionNode, &'n ExpressionNode)>,
    /// What any other value gives.
    pub otherwise: &'n ExpressionNode,
}

impl<'n> ValueLookup<'n> {
    /// The expression as one; none if it is more.
    pub fn of(node: &'n ExpressionNode) -> Option<Self> {
        let ExpressionNode::Case(branches, otherwise) = node else { return None };
        let constant = |node: &ExpressionNode| {
            matches!(node, ExpressionNode::Number(_) | ExpressionNode::Text(_) | ExpressionNode::Missing(_))
        };
        if !constant(otherwise) {
            return None;
        }
        let (mut of, mut missing, mut entries) = (None, None, Vec::new());
        let mut is_of = |place: usize| *of.get_or_insert(place) == place;
        for (condition, result) in branches {
            match condition {
                _ if !constant(result) => return None,
                ExpressionNode::IsMissing(inner) => match **inner {
                    ExpressionNode::Column(place) if is_of(place) => drop(missing.get_or_insert(result)),
                    _ => return None,
                },
                ExpressionNode::OneOf(inner, constants) => match **inner {
                    ExpressionNode::Column(place) if is_of(place) => {
                        entries.extend(constants.iter().map(|c| (c, result)))
                    }
                    _ => return None,
                },
                _ => return None,
            }
        }
        // Of what is missing no other condition is true.
        Some(Self { of: of?, missing: missing.unwrap_or(otherwise), entries, otherwise })
    }
}
