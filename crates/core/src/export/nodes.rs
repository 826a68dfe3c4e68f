//! Expressions put together.

use pronoia_data::expression::{Arithmetic, Comparison, ExpressionNode, Function};

/// A number.
pub(super) fn number(x: f64) -> ExpressionNode {
    ExpressionNode::Number(x)
}

/// Two numbers put together.
fn arithmetic(how: Arithmetic, a: ExpressionNode, b: ExpressionNode) -> ExpressionNode {
    ExpressionNode::Arithmetic(how, Box::new([a, b]))
}

pub(super) fn plus(a: ExpressionNode, b: ExpressionNode) -> ExpressionNode {
    arithmetic(Arithmetic::Plus, a, b)
}

pub(super) fn minus(a: ExpressionNode, b: ExpressionNode) -> ExpressionNode {
    arithmetic(Arithmetic::Minus, a, b)
}

pub(super) fn times(a: ExpressionNode, b: ExpressionNode) -> ExpressionNode {
    arithmetic(Arithmetic::Times, a, b)
}

pub(super) fn over(a: ExpressionNode, b: ExpressionNode) -> ExpressionNode {
    arithmetic(Arithmetic::Over, a, b)
}

pub(super) fn compare(how: Comparison, a: ExpressionNode, b: ExpressionNode) -> ExpressionNode {
    ExpressionNode::Compare(how, Box::new([a, b]))
}

pub(super) fn call(function: Function, argument: ExpressionNode) -> ExpressionNode {
    ExpressionNode::Call(function, vec![argument])
}
