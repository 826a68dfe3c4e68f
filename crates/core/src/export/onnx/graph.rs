//! A graph of operators in the making.

use std::collections::HashMap;

use super::proto::{
    AttributeProto, DOUBLE, DimensionProto, GraphProto, NodeProto, STRING, TensorProto, TensorShapeProto,
    TensorTypeProto, TypeProto, ValueInfoProto,
};
use pronoia_data::expression::Type;

/// The domain of operators of classical machine learning.
pub(super) const CLASSICAL: &str = "ai.onnx.ml";

/// The result.
const PROBABILITY: &str = "pronoia_probability";

/// Operators so far.
#[derive(Default)]
pub(super) struct Graph {
    inputs: Vec<ValueInfoProto>,
    nodes: Vec<NodeProto>,
    constants: Vec<TensorProto>,
    /// Constants that there are, by what they are.
    known: HashMap<String, String>,
    /// Tensors side by side, by which they are.
    joined: HashMap<Vec<String>, String>,
}

impl Graph {
    /// A column of the customer.
    pub fn input(&mut self, name: &str, kind: Type) -> String {
        let element = if matches!(kind, Type::Text | Type::Truth) { STRING } else { DOUBLE };
        self.inputs.push(value_info(name, element));
        name.to_owned()
    }

    /// What an operator gives.
    pub fn add(&mut self, operator: &str, inputs: &[&str]) -> String {
        self.add_with(operator, "", inputs, Vec::new())
    }

    /// What an operator of some domain gives, with its attributes.
    pub fn add_with(
        &mut self,
        operator: &str,
        domain: &str,
        inputs: &[&str],
        attribute: Vec<AttributeProto>,
    ) -> String {
        let name = format!("pronoia_t{}", self.nodes.len() + 1);
        self.nodes.push(NodeProto {
            input: inputs.iter().map(|&input| input.to_owned()).collect(),
            output: vec![name.clone()],
            op_type: operator.to_owned(),
            attribute,
            domain: domain.to_owned(),
        });
        name
    }

    /// A tensor that stays the same.
    pub fn constant(&mut self, tensor: TensorProto) -> String {
        let key = format!("{:?}", tensor);
        if let Some(name) = self.known.get(&key) {
            return name.clone();
        }
        let name = format!("pronoia_c{}", self.constants.len() + 1);
        self.constants.push(TensorProto { name: name.clone(), ..tensor });
        self.known.insert(key, name.clone());
        name
    }

    /// A number, the same for every customer.
    pub fn number(&mut self, x: f64) -> String {
        self.constant(TensorProto::doubles(&[1, 1], vec![x]))
    }

    /// Tensors side by side.
    pub fn join(&mut self, tensors: &[String]) -> String {
        match tensors {
            [only] => only.clone(),
            several => {
                if let Some(name) = self.joined.get(several) {
                    return name.clone();
                }
                let inputs: Vec<&str> = several.iter().map(String::as_str).collect();
                let name = self.add_with("Concat", "", &inputs, vec![AttributeProto::int("axis", 1)]);
                self.joined.insert(several.to_vec(), name.clone());
                name
            }
        }
    }

    /// A weighted sum.
    pub fn sum(&mut self, terms: &[String], weights: &[f64], constant: f64, rectified: bool) -> String {
        let constant = self.number(constant);
        if terms.is_empty() {
            return self.for_everybody(&constant);
        }
        let joined = self.join(terms);
        let weights = self.constant(TensorProto::doubles(&[weights.len() as i64, 1], weights.to_vec()));
        let sum = self.add("MatMul", &[&joined, &weights]);
        let sum = self.add("Add", &[&sum, &constant]);
        if rectified { self.add("Relu", &[&sum]) } else { sum }
    }

    /// A constant once for every customer.
    pub fn for_everybody(&mut self, constant: &str) -> String {
        let Some(first) = self.inputs.first().map(|input| input.name.clone()) else { return constant.to_owned() };
        let shape = self.add("Shape", &[&first]);
        self.add("Expand", &[constant, &shape])
    }

    /// The number of text among these; one more where it is missing, two more where it is none of them.
    pub fn code<'t>(&mut self, text: &str, keys: impl IntoIterator<Item = &'t str>) -> String {
        let mut keys: Vec<&str> = keys.into_iter().collect();
        keys.push("");
        let numbers: Vec<i64> = (0..keys.len() as i64).collect();
        let attributes = vec![
            AttributeProto::int("default_int64", keys.len() as i64),
            AttributeProto::strings("keys_strings", keys),
            AttributeProto::ints("values_int64s", numbers),
        ];
        self.add_with("LabelEncoder", CLASSICAL, &[text], attributes)
    }

    /// For every code its row of a table of so many columns.
    pub fn rows(&mut self, codes: &str, table: Vec<f64>, columns: usize) -> String {
        let height = (table.len() / columns) as i64;
        let table = self.constant(TensorProto::doubles(&[height, columns as i64], table));
        let flat = self.constant(TensorProto::ints(&[1], vec![-1]));
        let codes = self.add("Reshape", &[codes, &flat]);
        self.add("Gather", &[&table, &codes])
    }

    /// The graph that gives this probability.
    pub fn finish(mut self, probability: &str, about: &str) -> GraphProto {
        self.nodes.push(NodeProto {
            input: vec![probability.to_owned()],
            output: vec![PROBABILITY.to_owned()],
            op_type: "Identity".into(),
            ..NodeProto::default()
        });
        GraphProto {
            node: self.nodes,
            name: "pronoia".into(),
            initializer: self.constants,
            doc_string: about.to_owned(),
            input: self.inputs,
            output: vec![value_info(PROBABILITY, DOUBLE)],
        }
    }
}

/// A column of one value per customer.
fn value_info(name: &str, elem_type: i32) -> ValueInfoProto {
    let dim = vec![
        DimensionProto { dim_param: Some("customers".into()), ..DimensionProto::default() },
        DimensionProto { dim_value: Some(1), ..DimensionProto::default() },
    ];
    let tensor = TensorTypeProto { elem_type, shape: Some(TensorShapeProto { dim }) };
    ValueInfoProto { name: name.to_owned(), r#type: Some(TypeProto { tensor_type: Some(tensor) }) }
}
