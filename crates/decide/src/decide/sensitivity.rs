//! What a decision gains where its assumptions are wrong.

use serde::Serialize;

use super::assumption::Assumption;
use super::decision::ConfusionCounts;
use super::economics::Economics;

/// By how much an assumption is varied, as a share of itself.
const VARIED: f64 = 0.2;

/// How a decision depends on one assumption, all others staying as they are.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Sensitivity {
    /// The assumption.
    pub assumption: Assumption,
    /// What it is assumed to be, on average where it differs by customer.
    pub value: f64,
    /// The value at which the decision gains nothing; none if no possible value does.
    pub break_even: Option<f64>,
    /// The assumption a fifth less, and what the decision gains then.
    pub less: (f64, f64),
    /// The assumption a fifth more, as far as that is possible, and what the decision gains then.
    pub more: (f64, f64),
}

impl Sensitivity {
    /// Looks at every assumption while the customers acted on stay the same. In the order in which
    /// the assumptions are asked for.
    pub fn of_all(typical: &Economics<f64>, decision: &ConfusionCounts) -> Vec<Self> {
        typical
            .amounts()
            .into_iter()
            .map(|(assumption, &value)| Self::of(typical, assumption, value, decision))
            .collect()
    }

    /// Looks at one of them.
    pub fn of(typical: &Economics<f64>, assumption: Assumption, value: f64, decision: &ConfusionCounts) -> Self {
        let gain = |value: f64| decision.gain(&typical.with(assumption.word, value));
        let break_even = if assumption.is_linear() {
            of_line(&assumption, value, gain)
        } else {
            break_even(&assumption, value, gain)
        };
        let varied = |by: f64| {
            let value = assumption.nearest_possible(value * (1.0 + by));
            (value, gain(value))
        };
        Self { assumption, value, break_even, less: varied(-VARIED), more: varied(VARIED) }
    }

    /// How far the assumption is from the value at which nothing is gained, as a share of itself;
    /// none if it has no such value, or is 0.
    pub fn margin(&self) -> Option<f64> {
        self.break_even.filter(|_| self.value != 0.0).map(|at| ((at - self.value) / self.value).abs())
    }
}

/// Where a straight line crosses nothing: two evaluations give it.
fn of_line(assumption: &Assumption, value: f64, gain: impl Fn(f64) -> f64) -> Option<f64> {
    let there = assumption.nearest_possible(if value == 0.0 { 1.0 } else { 2.0 * value });
    let other = if there == value { 0.0 } else { there };
    let (at_value, at_other) = (gain(value), gain(other));
    let slope = (at_other - at_value) / (other - value);
    (slope != 0.0).then(|| value - at_value / slope).filter(|at| assumption.is_possible(*at))
}

/// The possible value nearest to the one assumed at which what is gained changes its sign: by
/// halving, for a gain that changes it at most once on either side.
pub(super) fn break_even(assumption: &Assumption, value: f64, gain: impl Fn(f64) -> f64) -> Option<f64> {
    let pays = gain(value) > 0.0;
    let range = assumption.range();
    let crossing = |end: f64| {
        if (gain(end) > 0.0) == pays {
            return None;
        }
        let (mut inside, mut outside) = (value, end);
        loop {
            let middle = inside + (outside - inside) / 2.0;
            if middle == inside || middle == outside {
                break;
            }
            let side = if (gain(middle) > 0.0) == pays { &mut inside } else { &mut outside };
            *side = middle;
        }
        Some(outside)
    };
    let found = [crossing(*range.start()), crossing(*range.end())];
    found.into_iter().flatten().min_by(|a, b| (a - value).abs().total_cmp(&(b - value).abs()))
}

#[cfg(test)]
mod tests {
    use super::super::{Churn, Payoff, PayoffTable};
    use super::*;
    use crate::question::Question;
    use proptest::prelude::*;

    fn of<'a>(all: &'a [Sensitivity], word: &str) -> &'a Sensitivity {
        all.iter().find(|s| s.assumption.word == word).expect("an assumption")
    }

    fn acted(acted: f64, events: f64) -> ConfusionCounts<'static> {
        ConfusionCounts::Counted { act: Payoff { event: events, other: acted - events }, refer: Payoff::default() }
    }

    fn churn() -> Churn<f64> {
        Churn {
            value_kept: 146.0,
            years: 1.0,
            discount: 0.0,
            save_rate: 0.3,
            offer_cost: 24.0,
            stayers_take: 0.35,
            contact_cost: 2.4,
        }
    }

    #[test]
    fn break_evens_are_those_of_the_closed_form() {
        let a = churn();
        let (n, e) = (600.0, 240.0);
        let all = Sensitivity::of_all(&Economics::Churn(a), &acted(n, e));
        assert_eq!(all.len(), 7);
        let others = (n - e) * (a.stayers_take * a.offer_cost + a.contact_cost);
        let save_rate = (e * a.contact_cost + others) / (e * (a.value_kept - a.offer_cost));
        let value_kept = a.offer_cost + (e * a.contact_cost + others) / (e * a.save_rate);
        let offer_cost = (e * (a.save_rate * a.value_kept - a.contact_cost) - (n - e) * a.contact_cost)
            / (e * a.save_rate + (n - e) * a.stayers_take);
        // Undiscounted, so many years of value, and one year discounted by its end.
        let (years, discount) = (value_kept / a.value_kept, a.value_kept / value_kept - 1.0);
        for (word, expected) in [
            ("save_rate", save_rate),
            ("value_kept", value_kept),
            ("offer_cost", offer_cost),
            ("years", years),
            ("discount", discount),
        ] {
            let found = of(&all, word).break_even.expect("a break-even");
            assert!((found - expected).abs() < 1e-9 * expected, "{word}: {found}, {expected}");
        }
        let save = of(&all, "save_rate");
        assert!((save.margin().expect("a margin") - (a.save_rate - save_rate) / a.save_rate).abs() < 1e-12);
        assert!((save.less.0 - 0.24).abs() < 1e-12 && (save.more.0 - 0.36).abs() < 1e-12);
        let worth = |s: f64| e * (s * (a.value_kept - a.offer_cost) - a.contact_cost) - others;
        assert!((save.less.1 - worth(0.24)).abs() < 1e-9 && (save.more.1 - worth(0.36)).abs() < 1e-9);
    }

    #[test]
    fn what_cannot_be_is_no_break_even() {
        // A chance cannot be over 100 %, and an amount that multiplies nothing changes nothing.
        let a = Churn {
            value_kept: 30.0,
            save_rate: 0.9,
            offer_cost: 29.0,
            stayers_take: 0.9,
            contact_cost: 5.0,
            ..churn()
        };
        let all = Sensitivity::of_all(&Economics::Churn(a), &acted(100.0, 10.0));
        assert_eq!(of(&all, "save_rate").break_even, None);
        assert!((of(&all, "save_rate").more.0 - 1.0).abs() < 1e-12, "no more than always");
        let plain = PayoffTable { act_event: 20.0, act_other: -2.0, leave_event: 0.0, leave_other: 0.0 };
        let all = Sensitivity::of_all(&Economics::Plain(plain), &acted(50.0, 50.0));
        assert_eq!(of(&all, "act_other").break_even, None, "nobody without the event is acted on");
        assert_eq!(of(&all, "leave_event").margin(), None, "a share of nothing is nothing");
    }

    proptest! {
        #[test]
        fn at_its_break_even_a_decision_gains_nothing(
            question in prop::sample::select(Question::ALL.to_vec()),
            factors in prop::collection::vec(0.1..1.6f64, 8),
            n in 1.0..1e6f64, share in 0.0..1.0f64, referred in 0.0..1e4f64,
        ) {
            let mut factors = factors.into_iter();
            let economics = Economics::usual(question)
                .map(|a, usual| a.nearest_possible(usual * factors.next().unwrap_or(1.0)));
            let decision = ConfusionCounts::Counted {
                act: Payoff { event: n * share, other: n * (1.0 - share) },
                refer: Payoff { event: referred * share, other: referred },
            };
            for s in Sensitivity::of_all(&economics, &decision) {
                if let Some(at) = s.break_even {
                    let there = economics.with(s.assumption.word, at);
                    let gain = decision.gain(&there);
                    prop_assert!(gain.abs() < 1e-7 * (n + referred) * (1.0 + at.abs()), "{s:?}: {gain}");
                    prop_assert!(there.chosen().check().is_ok(), "{s:?}");
                }
            }
        }
    }
}
