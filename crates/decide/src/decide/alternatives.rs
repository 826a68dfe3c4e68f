//! What other rules would bring, so that nobody pays for a richer one in vain.

use serde::Serialize;

use super::action::PolicyAction;
use super::curve::ExpectedProfit;
use super::difference::worth_between;
use super::economics::Economics;
use super::offers::Given;
use super::payoff::Payoff;
use super::policy_evaluation::{EvaluatedCustomers, EvaluationScale, PolicyEvaluation};
use super::ranking::CurveError;
use super::rule::{CutOff, Order, Rule};

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
    pub expected: ExpectedProfit,
    /// What it brings more than the best single cut-off on the same customers.
    pub over_cut_off: Option<ExpectedProfit>,
    /// What choosing among several offers brings more than the best of them for all.
    pub over_one_offer: Option<ExpectedProfit>,
    /// The offer that it makes do with, where there are several to choose from.
    pub only: Option<usize>,
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
    /// Acting where each customer's own expected gain is above nothing, each with the offer that
    /// suits them best.
    ValueAware,
    /// The same with one offer for all, the best one.
    OneOffer,
    /// The best use of a budget, by expected gain per cost.
    GainPerCost,
    /// The best two cut-offs, between which somebody looks.
    TwoCutOffs,
    /// Knowing beforehand what will happen.
    Perfect,
}

/// Other rules where amounts are the same for everybody.
pub fn counted(weighing: &PolicyEvaluation, economics: &Economics<f64>, rule: &Rule) -> Vec<Alternative> {
    // Its curve is that of all single cut-offs.
    let mut all = references(weighing, weighing, (&rule.limits, None));
    all.extend(two_cut_offs(weighing, economics, rule));
    all.push(perfect(weighing));
    all
}

/// Other rules on customers one by one. Where there are several offers, the best single cut-off
/// makes do with one of them, the best one for it.
///
/// # Errors
/// [`CurveError::NoRows`].
pub fn each(
    weighing: &PolicyEvaluation,
    customers: &EvaluatedCustomers,
    rule: &Rule,
    scale: &EvaluationScale,
) -> Result<Vec<Alternative>, CurveError> {
    let offers = customers.values.offered().count();
    let several = offers > 1;
    let given = |by: Order, only: Option<usize>| -> Given {
        let offered = customers.values.offered();
        only.map_or_else(|| offered.clone(), |offer| offered.only(offer)).given(by, &customers.probability)
    };
    let weigh = |by: Order, line: CutOff, only: Option<usize>| -> Result<WeighedRule, CurveError> {
        let rule = Rule { by, line, limits: rule.limits.clone(), refer_from: None };
        let given = given(by, only);
        let weighing =
            PolicyEvaluation::each(&EvaluatedCustomers { values: &given, ..customers.clone() }, &rule, scale)?;
        Ok(WeighedRule { rule, given, only, weighing })
    };
    // Of the same rule with each offer alone, the one that promises most.
    let best_of =
        |by: Order, line: CutOff, promises: fn(&PolicyEvaluation) -> f64| -> Result<WeighedRule, CurveError> {
            let mut best = weigh(by, line, several.then_some(0))?;
            for offer in 1..offers {
                let other = weigh(by, line, Some(offer))?;
                if promises(&other.weighing) > promises(&best.weighing) {
                    best = other;
                }
            }
            Ok(best)
        };
    let weighed_again;
    let (single, with, only) = if rule.by == Order::Probability && !several {
        (weighing, customers.values, None)
    } else {
        weighed_again = best_of(Order::Probability, rule.line, |w| w.curve.points[w.best.at].profit)?;
        (&weighed_again.weighing, &weighed_again.given, weighed_again.only)
    };
    let mut all = references(weighing, single, (&rule.limits, only));
    let cut_off = Done { given: with, actions: single.actions_at(single.best.at, None).unwrap_or_default() };
    let over = |this: &Done, that: &Done| {
        worth_between(|at| this.worth(at), |at| that.worth(at), customers.event, single.weights)
    };
    let positive = CutOff::Least(f64::MIN_POSITIVE);
    let mut richer = vec![(Which::ValueAware, weigh(Order::Gain, positive, None)?)];
    if several {
        richer.insert(0, (Which::OneOffer, best_of(Order::Gain, positive, |w| w.expected().profit)?));
    }
    if rule.limits.iter().any(|limit| matches!(limit, CutOff::Budget(_))) {
        richer.push((Which::GainPerCost, weigh(Order::GainPerCost, positive, None)?));
    }
    let done: Vec<Done> = richer.iter().map(|(_, weighed)| weighed.done()).collect();
    for ((which, weighed), this) in richer.iter().zip(&done) {
        all.push(Alternative {
            which: *which,
            rule: Some(weighed.rule.clone()),
            share: weighed.weighing.curve.points[weighed.weighing.position].share,
            expected: weighed.weighing.expected(),
            over_cut_off: Some(over(this, &cut_off)),
            over_one_offer: (several && weighed.only.is_none()).then(|| over(this, &done[0])),
            only: weighed.only,
        });
    }
    all.extend(two_cut_offs(single, &customers.values.typical(), rule));
    all.push(perfect(single));
    Ok(all)
}

impl Alternative {
    fn new(which: Which, rule: Option<Rule>, share: f64, expected: ExpectedProfit) -> Self {
        Self { which, rule, share, expected, over_cut_off: None, over_one_offer: None, only: None }
    }
}

/// A rule, and what came of it.
struct WeighedRule {
    rule: Rule,
    given: Given,
    /// The offer that it makes do with.
    only: Option<usize>,
    weighing: PolicyEvaluation,
}

impl WeighedRule {
    fn done(&self) -> Done<'_> {
        Done { given: &self.given, actions: self.weighing.actions().unwrap_or_default() }
    }
}

/// What is done about each customer, with which offer.
struct Done<'a> {
    given: &'a Given,
    actions: Vec<PolicyAction>,
}

impl Done<'_> {
    fn worth(&self, customer: usize) -> Payoff {
        self.given.payoffs_of(customer).of(self.actions[customer])
    }
}

/// What needs no model, and the best single cut-off.
fn references(
    weighing: &PolicyEvaluation,
    single: &PolicyEvaluation,
    (limits, only): (&[CutOff], Option<usize>),
) -> Vec<Alternative> {
    let share = weighing.curve.points[weighing.position].share;
    let alone = |which, share, expected| Alternative::new(which, None, share, expected);
    let by_lot = weighing.curve.by_lot(weighing.position);
    let best = single.curve.points[single.best.at];
    vec![
        alone(Which::Nobody, 0.0, single.curve.none()),
        alone(Which::Everybody, 1.0, single.curve.all()),
        alone(Which::ByLot, share, ExpectedProfit::certain(by_lot)),
        Alternative {
            rule: Some(Rule { limits: limits.to_vec(), ..Rule::cut_off(best.cut_off) }),
            only,
            ..alone(Which::CutOff, best.share, single.curve.at(single.best.at))
        },
    ]
}

fn two_cut_offs(single: &PolicyEvaluation, economics: &Economics<f64>, rule: &Rule) -> Option<Alternative> {
    economics.payoffs().refer?;
    let (act, refer) = single.curve.best_referring(single.limit);
    let points = &single.curve.points;
    let expected = single.curve.referring(act, refer);
    let over = single.curve.referring_over((act, refer), (single.best.at, single.best.at));
    let rule = Rule {
        by: Order::Probability,
        line: CutOff::Least(points[act].cut_off),
        limits: rule.limits.clone(),
        refer_from: Some(points[refer].cut_off),
    };
    Some(Alternative {
        over_cut_off: Some(over),
        ..Alternative::new(Which::TwoCutOffs, Some(rule), points[act].share, expected)
    })
}

fn perfect(single: &PolicyEvaluation) -> Alternative {
    let (curve, rate) = (&single.curve, single.ranking.rate());
    Alternative::new(Which::Perfect, None, rate, ExpectedProfit::certain(curve.perfect))
}
