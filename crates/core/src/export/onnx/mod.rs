//! A model as ONNX, preparation included.
//!
//! Numbers are in double precision, one tensor per column, `NaN` where a value is missing; text is
//! empty where it is missing; dates are days since 1970-01-01. Conditions are written as ones that
//! are true or false, never unknown.

mod expression;
mod graph;
mod proto;
mod trees;

use prost::Message;

use super::definitions::{Definition, Is};
use super::exported_model::ExportedModel;
use super::formula::ModelFormula;
use super::refusal::Refusal;
use expression::OnnxExpressions;
use graph::Graph;
use pronoia_data::expression::Type;
use proto::{ModelProto, OperatorSetIdProto, StringStringEntryProto};

/// The name of the form in sentences.
const FORM: &str = "ONNX";

/// Versions of the operators that are used, by domain.
const OPERATORS: [(&str, i64); 2] = [("", 20), ("ai.onnx.ml", 3)];

/// The version of the format that goes with them.
const FORMAT: i64 = 9;

/// The file.
pub(super) fn write(formula: &ModelFormula) -> Result<ExportedModel, Refusal> {
    let mut graph = Graph::default();
    let mut places: Vec<String> = Vec::new();
    let mut notes = vec![
        "Every column is a tensor of its own with one row per customer. A missing number is NaN, missing text is empty."
            .to_owned(),
    ];
    for (name, kind) in &formula.inputs {
        places.push(graph.input(name, Type::of(*kind)));
    }
    if formula.inputs.iter().any(|(_, kind)| Type::of(*kind) == Type::Day) {
        notes.push("Dates come as days since 1970-01-01.".into());
    }
    if formula.definitions.iter().any(|d| matches!(d.is, Is::Trees(_))) {
        notes
            .push("Outputs of trees are stored in single precision, so that probabilities agree to about 1e-7.".into());
    }
    for definition in &formula.definitions {
        let place = defined(formula, definition, &mut graph, &places)?;
        places.push(place);
    }
    let graph = graph.finish(&places[formula.probability], &formula.about());
    let entry = |key: &str, value: &str| StringStringEntryProto { key: key.to_owned(), value: value.to_owned() };
    let model = ModelProto {
        ir_version: FORMAT,
        producer_name: "Pronoia".into(),
        producer_version: formula.provenance.version.clone(),
        doc_string: format!("{}\n{}", formula.about(), notes.join("\n")),
        graph: Some(graph),
        opset_import: OPERATORS
            .map(|(domain, version)| OperatorSetIdProto { domain: domain.to_owned(), version })
            .to_vec(),
        metadata_props: vec![
            entry("outcome", &formula.outcome[0]),
            entry("event", &formula.outcome[1]),
            entry("records", &formula.provenance.fingerprint),
        ],
    };
    Ok(ExportedModel { bytes: model.encode_to_vec(), notes })
}

/// The tensor of a definition.
fn defined(
    formula: &ModelFormula,
    definition: &Definition,
    graph: &mut Graph,
    places: &[String],
) -> Result<String, Refusal> {
    match &definition.is {
        // Days come as numbers.
        Is::DaysSince1970(place) => Ok(places[*place].clone()),
        Is::Value(node) => OnnxExpressions { formula, column: &definition.hint, places, graph }.definition(node),
        Is::Sum(sum) => {
            let terms: Vec<String> = sum.terms.iter().map(|(place, _)| places[*place].clone()).collect();
            let weights: Vec<f64> = sum.terms.iter().map(|(_, weight)| *weight).collect();
            Ok(graph.sum(&terms, &weights, sum.constant, sum.rectified))
        }
        Is::Trees(trees) => trees::ensemble(trees, graph, places),
    }
}
