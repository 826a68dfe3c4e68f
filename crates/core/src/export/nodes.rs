//! Expressions put together.

use pronoia_data::expression::{Arithmetic, Comparison, Function, Node};

/// A number.
pub(super) fn number(x: f64) -> Node {
    Node::Number(x)
}

/// Two numbers put together.
fn arithmetic(how: Arithmetic, a: Node, b: Node) -> Node {
    Node::Arithmetic(how, Box::new([a, b]))
}

pub(super) fn plus(a: Node, b: Node) -> Node {
    arithmetic(Arithmetic::Plus, a, b)
}

pub(super) fn minus(a: Node, b: Node) -> Node {
    arithmetic(Arithmetic::Minus, a, b)
}

pub(super) fn times(a: Node, b: Node) -> Node {
    arithmetic(Arithmetic::Times, a, b)
}

pub(super) fn over(a: Node, b: Node) -> Node {
    arithmetic(Arithmetic::Over, a, b)
}

pub(super) fn compare(how: Comparison, a: Node, b: Node) -> Node {
    Node::Compare(how, Box::new([a, b]))
}

pub(super) fn call(function: Function, argument: Node) -> Node {
    Node::Call(function, vec![argument])
}
