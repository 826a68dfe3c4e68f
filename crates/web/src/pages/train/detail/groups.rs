//! The groups that customers are put into: those of a scorecard and those of a tree.

use pronoia_core::drivers::{Bin, Notation};
use pronoia_core::learn::scorecard::{CardColumn, Scorecard, ScorecardBins};
use pronoia_core::learn::tree::DecisionTree;
use pronoia_core::learn::{Estimator, SplitRule, TreeNode};
use pronoia_core::model::EnsembleMember;
use pronoia_core::prepare::Preparation;
use pronoia_core::{Kind, Model, number};
use pronoia_service::text;

use super::DetailTable;

/// Levels that a group is named by.
const MOST_LEVELS: usize = 6;

/// Levels by name, the first few of them.
fn listed(names: Vec<&str>) -> String {
    let more = names.len().saturating_sub(MOST_LEVELS);
    let shown: Vec<String> = names.iter().take(MOST_LEVELS).map(|name| format!("“{name}”")).collect();
    if more > 0 { format!("{} and {more} more", shown.join(", ")) } else { shown.join(" or ") }
}

/// The groups of a column by name, and last the missing.
fn labels(column: &str, groups: &ScorecardBins, preparation: &Preparation) -> Vec<String> {
    let mut labels: Vec<String> = match groups {
        ScorecardBins::Number { edges, whole } => {
            let is_date = preparation.inputs.iter().any(|i| i.name == column && i.kind == Kind::Date);
            let notation = match (is_date, whole) {
                (true, _) => Notation::Day,
                (false, true) => Notation::Whole,
                (false, false) => Notation::Measured,
            };
            let label = |band: usize| {
                let above = band.checked_sub(1).map(|below| edges[below]);
                Bin { above, up_to: edges.get(band).copied(), least: f64::NEG_INFINITY, notation }.label()
            };
            (0..groups.len()).map(label).collect()
        }
        ScorecardBins::Levels { group } => {
            let levels = |wanted: usize| {
                let inside = group.iter().enumerate().filter(|g| usize::from(*g.1) == wanted);
                listed(inside.map(|(code, _)| preparation.level_of(column, code as u32)).collect())
            };
            (0..groups.len()).map(levels).collect()
        }
    };
    labels.push("missing".into());
    labels
}

/// The points of a model that is one scorecard.
pub fn card(model: &Model) -> Option<DetailTable> {
    match &model.members[..] {
        [EnsembleMember { estimator: Estimator::Scorecard(card), preparation, .. }] => points(card, preparation),
        _ => None,
    }
}

/// What every group on the card says in points.
pub(super) fn points(card: &Scorecard, preparation: &Preparation) -> Option<DetailTable> {
    let line = |label: String, weight: f64, evidence: f64| {
        vec![label, text::fixed(card.points_of(weight, evidence), 0), text::fixed(evidence, 2)]
    };
    let mut columns: Vec<&CardColumn> = card.columns.iter().collect();
    columns.sort_by(|a, b| b.information.total_cmp(&a.information));
    let mut rows = Vec::new();
    for CardColumn { column, bands, weight, .. } in columns {
        let evidence = bands.evidence.iter().copied().chain([bands.missing]);
        let groups = labels(column, &bands.groups, preparation).into_iter().zip(evidence).enumerate();
        // What is missing is on the card where it says anything.
        let said = groups.filter(|(group, (_, evidence))| *group < bands.groups.len() || *evidence != 0.0);
        rows.extend(said.map(|(_, (label, evidence))| line(format!("{column}: {label}"), *weight, evidence)));
    }
    for pair in &card.pairs {
        let [down, across] = [0, 1].map(|side| labels(&pair.columns[side], &pair.groups[side], preparation));
        for (cell, evidence) in pair.evidence.iter().enumerate().filter(|cell| *cell.1 != 0.0) {
            let (i, j) = (cell / across.len(), cell % across.len());
            let label = format!("{}: {}, {}: {}", pair.columns[0], down[i], pair.columns[1], across[j]);
            rows.push(line(label, pair.weight, *evidence));
        }
    }
    let head = vec!["column and bin", "points", "weight of evidence"];
    DetailTable::of("Points; a customer’s points add up over the columns".into(), head, rows)
}

/// The groups of a tree, the likeliest first, each as the answers that lead to it.
pub(super) fn rules(tree: &DecisionTree, preparation: &Preparation) -> Option<DetailTable> {
    let mut waiting = vec![(0usize, Vec::<String>::new())];
    let mut leaves = Vec::new();
    while let Some((at, way)) = waiting.pop() {
        match &tree.tree.nodes[at] {
            TreeNode::Leaf { .. } => leaves.push((at, way)),
            TreeNode::Inner { feature, cut, missing_left, left, right, .. } => {
                // One feature stands for one column where columns come in as they are.
                let column = preparation.columns.get(*feature as usize).map_or("", |c| c.name.as_str());
                let [yes, no] = answers(column, cut, *missing_left, preparation);
                for (child, answer) in [(*left, yes), (*right, no)] {
                    let way = way.iter().cloned().chain([answer]).collect();
                    waiting.push((child as usize, way));
                }
            }
        }
    }
    let rate = |at: usize| tree.counts[at][1] / (tree.counts[at][0] + tree.counts[at][1]);
    leaves.sort_by(|a, b| rate(b.0).total_cmp(&rate(a.0)));
    let rows = leaves.into_iter().map(|(at, way)| {
        let rule = if way.is_empty() { "everybody".into() } else { way.join(", ") };
        let all = tree.counts[at][0] + tree.counts[at][1];
        vec![rule, text::fixed(all, 0), text::percent(rate(at))]
    });
    DetailTable::of(
        "Its leaves, the highest event rate first".into(),
        vec!["group", "training rows", "event rate"],
        rows.collect(),
    )
}

/// What is true of those who go left, and of those who go right.
fn answers(column: &str, cut: &SplitRule, missing_left: bool, preparation: &Preparation) -> [String; 2] {
    let or_missing = [missing_left, !missing_left].map(|here| if here { " or missing" } else { "" });
    match cut {
        SplitRule::AtMost { threshold } => {
            let figure = number::plain(*threshold);
            [format!("{column} up to {figure}{}", or_missing[0]), format!("{column} over {figure}{}", or_missing[1])]
        }
        SplitRule::OneOf { levels } => {
            let names = listed(levels.iter().map(|&code| preparation.level_of(column, code)).collect());
            [format!("{column} is {names}{}", or_missing[0]), format!("{column} is not {names}{}", or_missing[1])]
        }
    }
}
