//! What other rules would bring, so that nobody pays for a richer one in vain.

use serde::Serialize;

use super::curve::Expected;
use super::difference::gain_between;
use super::economics::Economics;
use super::policy::{Line, Order, Rule};
use super::ranking::CurveError;
use super::weighing::{Customers, Scale, Weighing};

/// A rule beside the one that is being weighed.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Alternative {
    /// Which.
    pub which: Which,
    /// The rule; none where it cannot be followed beforehand, or needs none.
    #[serde(skip)]
    pub rule: Option<Rule>,
    /// Share of customers acted on.
    pub share: f64,
    /// What it promises; no interval where none is known.
    pub expected: Expected,
    /// What it brings more than the best single cut-off on the same customers.
    pub over_cut_off: Option<Expected>,
}

/// Rules to compare with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Which {
    /// Leaving everybody alone.
    Nobody,
    /// Acting on everybody.
    Everybody,
    /// Acting on as many as the rule does, drawn by lot.
    ByLot,
    /// The best single cut-off.
    CutOff,
    /// Acting where each customer's own expected gain is above nothing.
    ValueAware,
    /// The best use of a budget, by expected gain per cost.
    GainPerCost,
    /// The best two cut-offs, between which somebody looks.
    TwoCutOffs,
    /// Knowing beforehand what will happen.
    Perfect,
}

/// Other rules where amounts are the same for everybody.
pub fn counted(weighing: &Weighing, economics: &Economics<f64>, rule: &Rule) -> Vec<Alternative> {
    // Its curve is that of all single cut-offs.
    let mut all = references(weighing, weighing, &rule.limits);
    all.extend(two_cut_offs(weighing, economics, rule));
    all.push(perfect(weighing));
    all
}

/// Other rules on customers one by one.
///
/// # Errors
/// [`CurveError::NoRows`].
pub fn each(
    weighing: &Weighing,
    customers: &Customers,
    rule: &Rule,
    scale: &Scale,
) -> Result<Vec<Alternative>, CurveError> {
    let of = |by: Order, line: Line| {
        let rule = Rule { by, line, limits: rule.limits.clone(), refer_from: None };
        Weighing::each(customers, &rule, scale).map(|weighing| (rule, weighing))
    };
    let by_probability;
    let single = if rule.by == Order::Probability {
        weighing
    } else {
        (_, by_probability) = of(Order::Probability, rule.line)?;
        &by_probability
    };
    let mut all = references(weighing, single, &rule.limits);
    let budget = rule.limits.iter().any(|limit| matches!(limit, Line::Budget(_)));
    let cut_off = single.actions_at(single.best.at, None).unwrap_or_default();
    let aware = (Which::ValueAware, Order::Gain);
    for (which, by) in std::iter::once(aware).chain(budget.then_some((Which::GainPerCost, Order::GainPerCost))) {
        let (rule, other) = of(by, Line::Least(f64::MIN_POSITIVE))?;
        let actions = other.actions().unwrap_or_default();
        let payoffs = |at| customers.values.payoffs_of(at);
        let over = gain_between([&actions, &cut_off], payoffs, customers.event, single.weights);
        all.push(Alternative {
            which,
            rule: Some(rule),
            share: other.curve.points[other.position].share,
            expected: other.expected(),
            over_cut_off: Some(over),
        });
    }
    all.extend(two_cut_offs(single, &customers.values.typical(), rule));
    all.push(perfect(single));
    Ok(all)
}

/// What needs no model, and the best single cut-off.
fn references(weighing: &Weighing, single: &Weighing, limits: &[Line]) -> Vec<Alternative> {
    let share = weighing.curve.points[weighing.position].share;
    let alone = |which, share, expected| Alternative { which, rule: None, share, expected, over_cut_off: None };
    let by_lot = weighing.curve.by_lot(weighing.position);
    let best = single.curve.points[single.best.at];
    vec![
        alone(Which::Nobody, 0.0, single.curve.none()),
        alone(Which::Everybody, 1.0, single.curve.all()),
        alone(Which::ByLot, share, Expected::certain(by_lot)),
        Alternative {
            rule: Some(Rule { limits: limits.to_vec(), ..Rule::cut_off(best.cut_off) }),
            ..alone(Which::CutOff, best.share, single.curve.at(single.best.at))
        },
    ]
}

fn two_cut_offs(single: &Weighing, economics: &Economics<f64>, rule: &Rule) -> Option<Alternative> {
    economics.payoffs().refer?;
    let (act, refer) = single.curve.best_referring(single.limit);
    let points = &single.curve.points;
    let expected = single.curve.referring(act, refer);
    let over = single.curve.referring_over((act, refer), (single.best.at, single.best.at));
    let rule = Rule {
        by: Order::Probability,
        line: Line::Least(points[act].cut_off),
        limits: rule.limits.clone(),
        refer_from: Some(points[refer].cut_off),
    };
    Some(Alternative {
        which: Which::TwoCutOffs,
        rule: Some(rule),
        share: points[act].share,
        expected,
        over_cut_off: Some(over),
    })
}

fn perfect(single: &Weighing) -> Alternative {
    let (curve, rate) = (&single.curve, single.ranking.rate());
    Alternative {
        which: Which::Perfect,
        rule: None,
        share: rate,
        expected: Expected::certain(curve.perfect),
        over_cut_off: None,
    }
}
