//! Trees as one operator.
//!
//! A question about a set of levels becomes a number that is 0 for those in the set and 1 for all
//! others, looked up by the code of the level: the operator itself only compares numbers.

use std::collections::HashMap;

use super::super::definitions::{Bound, SplitFeature, Trees};
use super::super::refusal::Refusal;
use super::graph::{CLASSICAL, Graph};
use super::proto::{AttributeProto, TensorProto};
use pronoia_data::expression::{Comparison, ExpressionNode};
use pronoia_learn::learn::TreeNode;

/// The columns that the operator reads, side by side.
struct Reads<'t> {
    trees: &'t Trees,
    /// The column of the number that a feature is.
    numbers: HashMap<u32, usize>,
    /// The column of every set that is asked for, by feature and constants.
    sets: HashMap<(u32, Vec<String>), usize>,
    /// The sets of a feature, in the order of their columns.
    of_feature: Vec<(u32, Vec<Vec<String>>)>,
}

/// The attributes of the operator, node by node.
#[derive(Default)]
struct Nodes {
    tree: Vec<i64>,
    id: Vec<i64>,
    feature: Vec<i64>,
    value: Vec<f64>,
    mode: Vec<&'static str>,
    yes: Vec<i64>,
    no: Vec<i64>,
    leaf_tree: Vec<i64>,
    leaf_id: Vec<i64>,
    leaf: Vec<f64>,
}

/// What the trees say, start included.
pub(super) fn ensemble(trees: &Trees, graph: &mut Graph, places: &[String]) -> Result<String, Refusal> {
    let mut reads = Reads::of(trees);
    let matrix = reads.matrix(graph, places);
    let mut nodes = Nodes::default();
    for (at, tree) in trees.trees.iter().enumerate() {
        for (id, fork) in tree.nodes.iter().enumerate() {
            nodes.tree.push(at as i64);
            nodes.id.push(id as i64);
            match fork {
                TreeNode::Leaf { value, .. } => {
                    nodes.leaf_tree.push(at as i64);
                    nodes.leaf_id.push(id as i64);
                    nodes.leaf.push(*value);
                    nodes.fork(0, 0.0, "LEAF", [0, 0]);
                }
                TreeNode::Inner { feature, cut, missing_left, left, right, .. } => {
                    let question = trees.question(*feature, cut, *missing_left);
                    let ways = if question.true_left { [*left, *right] } else { [*right, *left] };
                    let (column, value, mode) = reads.asked(*feature, &question.condition);
                    nodes.fork(column, value, mode, ways.map(i64::from));
                }
            }
        }
    }
    let attributes = nodes.attributes();
    let said = graph.add_with("TreeEnsembleRegressor", CLASSICAL, &[&matrix], attributes);
    let said = graph.add_with("Cast", "", &[&said], vec![AttributeProto::int("to", i64::from(super::proto::DOUBLE))]);
    let start = graph.number(trees.start);
    Ok(graph.add("Add", &[&said, &start]))
}

fn texts(constants: &[ExpressionNode]) -> Vec<String> {
    let text = |node: &ExpressionNode| match node {
        ExpressionNode::Text(text) => text.clone(),
        ExpressionNode::Number(x) => x.to_string(),
        _ => String::new(),
    };
    constants.iter().map(text).collect()
}

impl<'t> Reads<'t> {
    fn of(trees: &'t Trees) -> Self {
        let mut reads = Self { trees, numbers: HashMap::new(), sets: HashMap::new(), of_feature: Vec::new() };
        for fork in trees.trees.iter().flat_map(|tree| &tree.nodes) {
            if let TreeNode::Inner { feature, cut, missing_left, .. } = fork {
                match trees.question(*feature, cut, *missing_left).condition {
                    ExpressionNode::OneOf(_, constants) => reads.set(*feature, texts(&constants)),
                    _ => drop(reads.numbers.entry(*feature).or_insert(0)),
                }
            }
        }
        reads
    }

    fn set(&mut self, feature: u32, set: Vec<String>) {
        let of_feature = match self.of_feature.iter_mut().find(|(of, _)| *of == feature) {
            Some((_, sets)) => sets,
            None => {
                self.of_feature.push((feature, Vec::new()));
                let last = self.of_feature.len() - 1;
                &mut self.of_feature[last].1
            }
        };
        if self.sets.insert((feature, set.clone()), 0).is_none() {
            of_feature.push(set);
        }
    }

    /// All columns, side by side.
    fn matrix(&mut self, graph: &mut Graph, places: &[String]) -> String {
        let (mut columns, mut width) = (Vec::new(), 0);
        let mut numbers: Vec<u32> = self.numbers.keys().copied().collect();
        numbers.sort_unstable();
        for feature in numbers {
            if let SplitFeature::Number(place) = self.trees.features[feature as usize] {
                self.numbers.insert(feature, width);
                columns.push(places[place].clone());
                width += 1;
            }
        }
        for (feature, sets) in std::mem::take(&mut self.of_feature) {
            if let SplitFeature::Levels(bound, known) = &self.trees.features[feature as usize] {
                let codes = code(graph, places, *bound, known);
                // One more row for missing and one for unknown levels, which are in no set.
                let outside =
                    |set: &Vec<String>, level: Option<&String>| !level.is_some_and(|level| set.contains(level));
                let mut table = Vec::with_capacity((known.len() + 2) * sets.len());
                for level in known.iter().map(Some).chain([None, None]) {
                    table.extend(sets.iter().map(|set| f64::from(u8::from(outside(set, level)))));
                }
                columns.push(graph.rows(&codes, table, sets.len()));
            }
            for (at, set) in sets.iter().enumerate() {
                self.sets.insert((feature, set.clone()), width + at);
            }
            width += sets.len();
        }
        if columns.is_empty() {
            let nothing = graph.number(0.0);
            columns.push(graph.for_everybody(&nothing));
        }
        graph.join(&columns)
    }

    /// The column that a condition asks, what it is compared with, and how.
    fn asked(&self, feature: u32, condition: &ExpressionNode) -> (i64, f64, &'static str) {
        match condition {
            ExpressionNode::OneOf(_, constants) => {
                let column = self.sets.get(&(feature, texts(constants))).copied().unwrap_or_default();
                (column as i64, 0.5, "BRANCH_LEQ")
            }
            ExpressionNode::Compare(how, pair) => {
                let threshold = if let ExpressionNode::Number(x) = pair[1] { x } else { f64::NAN };
                let mode = if *how == Comparison::Greater { "BRANCH_GT" } else { "BRANCH_LEQ" };
                (self.numbers.get(&feature).copied().unwrap_or_default() as i64, threshold, mode)
            }
            // Never true.
            _ => (0, f64::NEG_INFINITY, "BRANCH_LT"),
        }
    }
}

/// The code of a level; the two after the last for a missing and for an unknown one.
fn code(graph: &mut Graph, places: &[String], bound: Bound, known: &[String]) -> String {
    let place = &places[bound.place()];
    if let Bound::At(_) = bound {
        return graph.code(place, known.iter().map(String::as_str));
    }
    let unknown = graph.constant(TensorProto::ints(&[1, 1], vec![known.len() as i64 + 1]));
    let missing = graph.constant(TensorProto::ints(&[1, 1], vec![known.len() as i64]));
    let is_missing = graph.add("IsNaN", &[place]);
    let mut codes = graph.add("Where", &[&is_missing, &missing, &unknown]);
    for (at, level) in known.iter().enumerate() {
        if let Some(ExpressionNode::Number(x)) = bound.constant(level) {
            let [x, own] = [graph.number(x), graph.constant(TensorProto::ints(&[1, 1], vec![at as i64]))];
            let is = graph.add("Equal", &[place, &x]);
            codes = graph.add("Where", &[&is, &own, &codes]);
        }
    }
    codes
}

impl Nodes {
    fn fork(&mut self, feature: i64, value: f64, mode: &'static str, [yes, no]: [i64; 2]) {
        self.feature.push(feature);
        self.value.push(value);
        self.mode.push(mode);
        self.yes.push(yes);
        self.no.push(no);
    }

    fn attributes(self) -> Vec<AttributeProto> {
        let doubles = |name: &str, values: Vec<f64>| {
            AttributeProto::tensor(name, TensorProto::doubles(&[values.len() as i64], values))
        };
        let (nodes, leaves) = (self.id.len(), self.leaf.len());
        vec![
            AttributeProto::int("n_targets", 1),
            AttributeProto::string("aggregate_function", "SUM"),
            AttributeProto::string("post_transform", "NONE"),
            AttributeProto::ints("nodes_treeids", self.tree),
            AttributeProto::ints("nodes_nodeids", self.id),
            AttributeProto::ints("nodes_featureids", self.feature),
            AttributeProto::strings("nodes_modes", self.mode),
            doubles("nodes_values_as_tensor", self.value),
            AttributeProto::ints("nodes_truenodeids", self.yes),
            AttributeProto::ints("nodes_falsenodeids", self.no),
            AttributeProto::ints("nodes_missing_value_tracks_true", vec![0; nodes]),
            AttributeProto::ints("target_treeids", self.leaf_tree),
            AttributeProto::ints("target_nodeids", self.leaf_id),
            AttributeProto::ints("target_ids", vec![0; leaves]),
            doubles("target_weights_as_tensor", self.leaf),
        ]
    }
}
