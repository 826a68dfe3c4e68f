//! A model as its definitions in JSON, for a program of one's own.
//!
//! The form is described by `formula.schema.json`, which stands beside this file.

use serde_json::{Map, Value, json};

use super::definitions::{Definition, Is, Trees};
use super::exported_model::ExportedModel;
use super::formula::ModelFormula;
use super::refusal::Refusal;
use pronoia_data::expression::{ExpressionNode, Function, Type};
use pronoia_learn::learn::{Tree, TreeNode};

/// The version of the form.
const VERSION: u32 = 1;

/// The published description of the form (JSON Schema 2020-12).
pub const SCHEMA: &str = include_str!("formula.schema.json");

/// The definitions as JSON.
pub(super) fn write(formula: &ModelFormula) -> Result<ExportedModel, Refusal> {
    let kind = |kind: Type| match kind {
        Type::Number => "number",
        Type::Day => "date",
        Type::Text | Type::Truth => "text",
    };
    let input = |(name, of): &(String, pronoia_data::Kind)| json!({ "name": name, "type": kind(Type::of(*of)) });
    let from = &formula.provenance;
    let document = json!({
        "pronoia_formula": VERSION,
        "about": {
            "family": from.name,
            "outcome": formula.outcome[0],
            "event": formula.outcome[1],
            "version": from.version,
            "rows": from.rows,
            "events": from.events,
            "records": from.fingerprint,
        },
        "inputs": formula.inputs.iter().map(input).collect::<Vec<_>>(),
        "definitions": formula.definitions.iter().map(|d| definition(formula, d)).collect::<Vec<_>>(),
        "log_odds": formula.name_at(formula.log_odds),
        "probability": formula.name_at(formula.probability),
    });
    Ok(ExportedModel { bytes: document.to_string().into_bytes(), notes: Vec::new() })
}

fn definition(formula: &ModelFormula, definition: &Definition) -> Value {
    let mut object = Map::new();
    object.insert("name".into(), definition.name.as_str().into());
    let (key, value) = match &definition.is {
        Is::DaysSince1970(place) => ("days_since_1970", formula.name_at(*place).into()),
        Is::Value(node) => ("value", value(formula, node)),
        Is::Sum(sum) => {
            let term = |(place, weight): &(usize, f64)| json!([formula.name_at(*place), weight]);
            let terms: Vec<Value> = sum.terms.iter().map(term).collect();
            ("sum", json!({ "constant": sum.constant, "terms": terms, "rectified": sum.rectified }))
        }
        Is::Trees(trees) => {
            let all: Vec<Value> = trees.trees.iter().map(|tree| branch(formula, trees, tree, 0)).collect();
            ("trees", json!({ "start": trees.start, "trees": all }))
        }
    };
    object.insert(key.into(), value);
    Value::Object(object)
}

fn branch(formula: &ModelFormula, trees: &Trees, tree: &Tree, at: usize) -> Value {
    match &tree.nodes[at] {
        TreeNode::Leaf { value, .. } => json!(value),
        TreeNode::Inner { feature, cut, missing_left, left, right, .. } => {
            let question = trees.question(*feature, cut, *missing_left);
            let [left, right] = [left, right].map(|child| branch(formula, trees, tree, *child as usize));
            let (then, otherwise) = if question.true_left { (left, right) } else { (right, left) };
            json!({ "if": value(formula, &question.condition), "then": then, "else": otherwise })
        }
    }
}

fn value(formula: &ModelFormula, node: &ExpressionNode) -> Value {
    let of = |node: &ExpressionNode| value(formula, node);
    let both = |name: &str, pair: &[ExpressionNode; 2]| json!({ name: [of(&pair[0]), of(&pair[1])] });
    match node {
        ExpressionNode::Column(place) => json!({ "column": formula.name_at(*place) }),
        ExpressionNode::Number(x) => json!(x),
        ExpressionNode::Text(text) => json!({ "text": text }),
        ExpressionNode::Truth(truth) => json!(truth),
        ExpressionNode::Missing(_) => Value::Null,
        ExpressionNode::Day(day) => json!(day),
        ExpressionNode::Arithmetic(how, pair) => both(how.sign(), pair),
        ExpressionNode::DaysBetween(pair) => both("-", pair),
        ExpressionNode::DaysLater(pair) => both("+", pair),
        ExpressionNode::Compare(how, pair) => both(how.sign(), pair),
        ExpressionNode::And(pair) => both("and", pair),
        ExpressionNode::Or(pair) => both("or", pair),
        ExpressionNode::Not(inner) => json!({ "not": of(inner) }),
        ExpressionNode::Minus(inner) => json!({ "negative": of(inner) }),
        ExpressionNode::IsMissing(inner) => json!({ "is_missing": of(inner) }),
        ExpressionNode::OneOf(inner, constants) => {
            json!({ "one_of": of(inner), "values": constants.iter().map(of).collect::<Vec<_>>() })
        }
        ExpressionNode::Like(inner, form) => json!({ "like": of(inner), "form": form }),
        ExpressionNode::Case(branches, last) => {
            let branches: Vec<Value> = branches.iter().map(|(c, r)| json!([of(c), of(r)])).collect();
            json!({ "case": branches, "else": of(last) })
        }
        ExpressionNode::Call(function, arguments) => {
            json!({ "call": name(*function), "of": arguments.iter().map(of).collect::<Vec<_>>() })
        }
    }
}

fn name(function: Function) -> &'static str {
    match function {
        Function::Abs => "abs",
        Function::Round => "round",
        Function::Floor => "floor",
        Function::Ceil => "ceil",
        Function::Sqrt => "sqrt",
        Function::Ln => "ln",
        Function::Exp => "exp",
        Function::Least => "least",
        Function::Greatest => "greatest",
        Function::Coalesce => "coalesce",
        Function::NullIf => "nullif",
        Function::Length => "length",
        Function::Lower => "lower",
        Function::Upper => "upper",
        Function::Trim => "trim",
        Function::Concat => "concat",
        Function::Year => "year",
        Function::Month => "month",
        Function::DayOfMonth => "day",
        Function::DayOfWeek => "weekday",
    }
}
