//! From scores to log-odds that hold, and to the probability.

use super::definitions::{Definitions, Is, WeightedSum};
use super::nodes::{call, compare, minus, number, over, plus, times};
use pronoia_data::expression::{Comparison, ExpressionNode, Function, Type};
use pronoia_learn::calibrate::Calibration;

/// The log-odds that hold where the score stands at a place.
pub(super) fn calibrated(made: &mut Definitions, map: &Calibration, score: usize) -> usize {
    match map {
        Calibration::Line { intercept, slope } => {
            made.define("calibrated", Type::Number, Is::Sum(WeightedSum::plain(*intercept, vec![(score, *slope)])))
        }
        Calibration::Beta { a, b, c } => {
            let x = ExpressionNode::Column(score);
            let magnitude = made.number("magnitude", call(Function::Abs, x.clone()));
            let small = call(Function::Exp, ExpressionNode::Minus(Box::new(ExpressionNode::Column(magnitude))));
            let rest = made.number("rest", call(Function::Ln, plus(number(1.0), small)));
            let is_below = compare(Comparison::Less, x.clone(), number(0.0));
            let side = |below: ExpressionNode, above: ExpressionNode| {
                ExpressionNode::Case(vec![(is_below.clone(), below)], Box::new(above))
            };
            let event = minus(side(x.clone(), number(0.0)), ExpressionNode::Column(rest));
            let other =
                minus(side(number(0.0), ExpressionNode::Minus(Box::new(x.clone()))), ExpressionNode::Column(rest));
            let event = made.number("log_probability", event);
            let other = made.number("log_of_the_rest", other);
            made.define("calibrated", Type::Number, Is::Sum(WeightedSum::plain(*c, vec![(event, *a), (other, -b)])))
        }
        Calibration::Steps(steps) => {
            let x = ExpressionNode::Column(score);
            let first = steps.log_odds.first().copied().unwrap_or_default();
            let mut branches = Vec::new();
            if let Some(&at) = steps.at.first() {
                branches.push((compare(Comparison::Less, x.clone(), number(at)), number(first)));
            }
            for (at, odds) in steps.at.windows(2).zip(steps.log_odds.windows(2)) {
                let share = over(minus(x.clone(), number(at[0])), number(at[1] - at[0]));
                let between = plus(number(odds[0]), times(share, number(odds[1] - odds[0])));
                branches.push((compare(Comparison::Less, x.clone(), number(at[1])), between));
            }
            let last = number(steps.log_odds.last().copied().unwrap_or_default());
            let node = if branches.is_empty() { x } else { ExpressionNode::Case(branches, Box::new(last)) };
            made.number("calibrated", node)
        }
    }
}

/// The probability that belongs to the log-odds at a place, without overflow.
pub(super) fn probability(made: &mut Definitions, log_odds: usize) -> usize {
    let x = ExpressionNode::Column(log_odds);
    let odds = call(Function::Exp, ExpressionNode::Minus(Box::new(call(Function::Abs, x.clone()))));
    let odds = made.number("odds_of_the_rarer", odds);
    let odds = || ExpressionNode::Column(odds);
    let is_below = compare(Comparison::Less, x, number(0.0));
    let rarer = over(odds(), plus(number(1.0), odds()));
    let other = over(number(1.0), plus(number(1.0), odds()));
    made.define("probability", Type::Number, Is::Value(ExpressionNode::Case(vec![(is_below, rarer)], Box::new(other))))
}
