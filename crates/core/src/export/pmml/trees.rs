//! Trees as PMML has them.

use super::super::definitions::Trees;
use super::element::Element;
use super::expression::PmmlExpressions;
use pronoia_data::expression::{Comparison, ExpressionNode};
use pronoia_learn::learn::{Tree, TreeNode};

/// A model that adds up what trees say.
pub(super) fn model(expressions: &PmmlExpressions, trees: &Trees, schema: Element) -> Element {
    let start = Element::new("Node").with("score", &trees.start.to_string()).child(Element::new("True"));
    let grown = trees.trees.iter().map(|tree| node(expressions, trees, (tree, 0), Element::new("True")));
    let segment = |(at, root): (usize, Element)| {
        let tree = Element::new("TreeModel").with("functionName", "regression").child(schema.clone()).child(root);
        Element::new("Segment").with("id", &(at + 1).to_string()).child(Element::new("True")).child(tree)
    };
    let all = Element::new("Segmentation")
        .with("multipleModelMethod", "sum")
        .children(std::iter::once(start).chain(grown).enumerate().map(segment));
    Element::new("MiningModel").with("functionName", "regression").child(schema).child(all)
}

/// A node with the predicate that leads to it. Those of whom a question is not true, be it because
/// they say nothing, go to the second child.
fn node(expressions: &PmmlExpressions, trees: &Trees, (tree, at): (&Tree, usize), predicate: Element) -> Element {
    let element = Element::new("Node");
    match &tree.nodes[at] {
        TreeNode::Leaf { value, .. } => element.with("score", &value.to_string()).child(predicate),
        TreeNode::Inner { feature, cut, missing_left, left, right, .. } => {
            let question = trees.question(*feature, cut, *missing_left);
            let (then, otherwise) = if question.true_left { (left, right) } else { (right, left) };
            let child = |at: &u32, predicate| node(expressions, trees, (tree, *at as usize), predicate);
            element
                .child(predicate)
                .child(child(then, asked(expressions, &question.condition)))
                .child(child(otherwise, Element::new("True")))
        }
    }
}

fn asked(expressions: &PmmlExpressions, condition: &ExpressionNode) -> Element {
    let field = |place: usize| expressions.formula.name_at(place);
    match condition {
        ExpressionNode::Compare(how, pair) => match (&pair[0], &pair[1]) {
            (ExpressionNode::Column(place), ExpressionNode::Number(threshold)) => {
                let operator = if *how == Comparison::Greater { "greaterThan" } else { "lessOrEqual" };
                Element::new("SimplePredicate")
                    .with("field", field(*place))
                    .with("operator", operator)
                    .with("value", &threshold.to_string())
            }
            _ => Element::new("False"),
        },
        ExpressionNode::OneOf(of, constants) => match **of {
            ExpressionNode::Column(place) if !constants.is_empty() => {
                let is_text = matches!(constants[0], ExpressionNode::Text(_));
                let text = constants.iter().filter_map(|constant| match constant {
                    ExpressionNode::Text(text) => {
                        Some(format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"")))
                    }
                    ExpressionNode::Number(x) => Some(x.to_string()),
                    _ => None,
                });
                let values = Element::with_text("Array", &text.clone().collect::<Vec<_>>().join(" "))
                    .with("n", &text.count().to_string())
                    .with("type", if is_text { "string" } else { "real" });
                Element::new("SimpleSetPredicate")
                    .with("field", field(place))
                    .with("booleanOperator", "isIn")
                    .child(values)
            }
            _ => Element::new("False"),
        },
        _ => Element::new("False"),
    }
}
