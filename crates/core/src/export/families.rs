//! What every family says of a customer, before calibration, as definitions.

use super::definitions::{Definitions, Is, Trees, WeightedSum};
use super::features::{Coded, Features};
use super::network;
use super::nodes::{call, compare, minus, number, over, plus, times};
use super::refusal::Refusal;
use crate::model::EnsembleMember;
use pronoia_data::expression::{Comparison, ExpressionNode, Function, Type};
use pronoia_learn::learn::bayes::{Bayes, Evidence};
use pronoia_learn::learn::forest::Forest;
use pronoia_learn::learn::scorecard::{CardPair, Scorecard, ScorecardBins};
use pronoia_learn::learn::{Estimator, Tree};

/// Place of the score of a member.
pub(super) fn score(made: &mut Definitions, member: &EnsembleMember) -> Result<usize, Refusal> {
    let features = Features::of(made, &member.preparation)?;
    let define = |made: &mut Definitions, is: Is| made.define("score", Type::Number, is);
    Ok(match &member.estimator {
        Estimator::Logistic(fitted) => {
            let coefficients: Vec<f64> = fitted.coefficients.iter().map(|c| c.value).collect();
            let sum = features.weighed(made, fitted.intercept, &coefficients);
            define(made, Is::Sum(sum))
        }
        Estimator::Svm(fitted) => {
            let coefficients: Vec<f64> = fitted.coefficients.iter().map(|c| c.1).collect();
            let sum = features.weighed(made, fitted.intercept, &coefficients);
            define(made, Is::Sum(sum))
        }
        Estimator::Scorecard(card) => {
            let sum = points(made, &features, card);
            define(made, Is::Sum(sum))
        }
        Estimator::Bayes(bayes) => {
            let sum = counted(made, &features, bayes);
            define(made, Is::Sum(sum))
        }
        Estimator::Tree(tree) => {
            let trees = asked(&features, 0.0, std::slice::from_ref(&tree.tree));
            define(made, Is::Trees(trees))
        }
        Estimator::Boosted(boosted) => {
            let trees = asked(&features, boosted.start, &boosted.trees);
            define(made, Is::Trees(trees))
        }
        Estimator::Forest(forest) => averaged(made, &features, forest),
        Estimator::Network(fitted) => network::averaged(made, &features, fitted),
        Estimator::Neighbours(_) => return Err(Refusal::HoldsCustomers),
    })
}

fn asked(features: &Features, start: f64, trees: &[Tree]) -> Trees {
    Trees { start, trees: trees.to_vec(), features: features.asked() }
}

/// The log-odds of the mean of what trees say, kept off 0 and 1.
fn averaged(made: &mut Definitions, features: &Features, forest: &Forest) -> usize {
    let sum = made.define("sum_of_trees", Type::Number, Is::Trees(asked(features, 0.0, &forest.trees)));
    let mean = over(ExpressionNode::Column(sum), number(forest.trees.len() as f64));
    let mean = ExpressionNode::Column(made.number("mean_of_trees", mean));
    let (least, most) = (number(forest.margin), number(1.0 - forest.margin));
    let branches = vec![
        (compare(Comparison::Less, mean.clone(), least.clone()), least),
        (compare(Comparison::Greater, mean.clone(), most.clone()), most),
    ];
    let kept = ExpressionNode::Column(made.number("kept_off_0_and_1", ExpressionNode::Case(branches, Box::new(mean))));
    made.number("score", call(Function::Ln, over(kept.clone(), minus(number(1.0), kept))))
}

/// What a scorecard says: a sum of the evidence of columns and of pairs.
fn points(made: &mut Definitions, features: &Features, card: &Scorecard) -> WeightedSum {
    let mut terms = Vec::new();
    for column in &card.columns {
        let bands = &column.bands;
        let node = features.grouped(column.feature, &bands.groups, &bands.evidence, bands.missing);
        terms.push((made.number(&format!("{}_evidence", column.column), node), column.weight));
    }
    for pair in &card.pairs {
        let node = cells(made, features, pair);
        terms.push((made.number(&format!("{}_pair", pair.columns.join("_and_")), node), pair.weight));
    }
    WeightedSum::plain(card.intercept, terms)
}

/// What the cells of a pair say.
fn cells(made: &mut Definitions, features: &Features, pair: &CardPair) -> ExpressionNode {
    let group = |made: &mut Definitions, side: usize| {
        let groups: &ScorecardBins = &pair.groups[side];
        let numbers: Vec<f64> = (0..groups.len()).map(|group| group as f64).collect();
        let node = features.grouped(pair.features[side], groups, &numbers, groups.len() as f64);
        ExpressionNode::Column(made.number(&format!("{}_group", pair.columns[side]), node))
    };
    let width = (pair.groups[1].len() + 1) as f64;
    let cell = plus(times(group(made, 0), number(width)), group(made, 1));
    let cell = ExpressionNode::Column(made.number("cell", cell));
    // By cells in order, so that a database can stop at the first that is not behind.
    let last = pair.evidence.last().copied().unwrap_or_default();
    let upper = pair.evidence.iter().enumerate().take(pair.evidence.len().saturating_sub(1));
    let branches = upper
        .map(|(at, says)| (compare(Comparison::LessOrEqual, cell.clone(), number(at as f64)), number(*says)))
        .collect();
    ExpressionNode::Case(branches, Box::new(number(last)))
}

/// What naive Bayes says: a sum over all columns.
fn counted(made: &mut Definitions, features: &Features, bayes: &Bayes) -> WeightedSum {
    let mut terms = Vec::new();
    for (feature, evidence) in bayes.evidence.iter().enumerate() {
        let (name, coded) = features.at(feature);
        let node = match (evidence, coded) {
            (Evidence::Bands { edges, adds, missing }, Coded::Number(x)) => Features::banded(*x, edges, adds, *missing),
            (Evidence::Normal { events, others, missing }, Coded::Number(x)) => {
                let density = |[mean, variance]: [f64; 2]| {
                    let away = minus(ExpressionNode::Column(*x), number(mean));
                    let away = over(times(away.clone(), away), number(variance));
                    times(number(-0.5), plus(number(variance.ln()), away))
                };
                let missing = (ExpressionNode::IsMissing(Box::new(ExpressionNode::Column(*x))), number(*missing));
                ExpressionNode::Case(vec![missing], Box::new(minus(density(*events), density(*others))))
            }
            (Evidence::Levels { adds, missing }, Coded::Levels(bound, levels)) => {
                Features::by_level(*bound, levels, adds, *missing, 0.0)
            }
            _ => number(0.0),
        };
        terms.push((made.number(&format!("{name}_evidence"), node), 1.0));
    }
    WeightedSum::plain(bayes.prior, terms)
}
