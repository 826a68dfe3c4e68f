//! What a decision is worth where one of its assumptions is wrong.
//!
//! For fixed customers acted on, profit is linear in every single amount: two evaluations give the
//! line, and the line gives the amount at which nothing is earned.

use serde::Serialize;

use super::Economics;
use super::economics::Assumption;

/// By how much an assumption is varied, as a share of itself.
const VARIED: f64 = 0.2;

/// How a decision depends on one assumption, all others staying as they are.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Sensitivity {
    /// The assumption.
    pub assumption: Assumption,
    /// The value at which the decision earns nothing; none if no possible value does.
    pub break_even: Option<f64>,
    /// The assumption a fifth less, and what the decision is worth then.
    pub less: (f64, f64),
    /// The assumption a fifth more, as far as that is possible, and what the decision is worth then.
    pub more: (f64, f64),
}

impl Sensitivity {
    /// Looks at every assumption while `acted` customers are acted on, `events` of
    /// whom have the event; both may be expectations. In the order in which the
    /// assumptions are asked for.
    pub fn of_all(economics: &Economics, acted: f64, events: f64) -> Vec<Self> {
        economics.assumptions().into_iter().map(|assumption| Self::of(economics, assumption, acted, events)).collect()
    }

    fn of(economics: &Economics, assumption: Assumption, acted: f64, events: f64) -> Self {
        let worth = |value: f64| economics.with(&assumption, value).prices().profit(acted, events);
        let (at_nothing, slope) = (worth(0.0), worth(1.0) - worth(0.0));
        let break_even = (slope != 0.0).then(|| -at_nothing / slope).filter(|value| assumption.is_possible(*value));
        let varied = |by: f64| {
            let value = assumption.nearest_possible(assumption.value * (1.0 + by));
            (value, worth(value))
        };
        Self { assumption, break_even, less: varied(-VARIED), more: varied(VARIED) }
    }

    /// How far the assumption is from the value at which nothing is earned, as a
    /// share of itself; none if it has no such value, or is 0.
    pub fn margin(&self) -> Option<f64> {
        let value = self.assumption.value;
        self.break_even.filter(|_| value != 0.0).map(|at| ((at - value) / value).abs())
    }
}

#[cfg(test)]
mod tests {
    use super::super::{ChurnAmounts, PlainAmounts};
    use super::*;
    use proptest::prelude::*;

    fn of<'a>(all: &'a [Sensitivity], word: &str) -> &'a Sensitivity {
        all.iter().find(|s| s.assumption.word == word).expect("an assumption")
    }

    #[test]
    fn break_evens_are_those_of_the_closed_form() {
        let a =
            ChurnAmounts { value_kept: 146.0, save_rate: 0.3, offer_cost: 24.0, stayers_take: 0.35, contact_cost: 2.4 };
        let (n, e) = (600.0, 240.0);
        let all = Sensitivity::of_all(&Economics::Churn(a), n, e);
        assert_eq!(all.len(), 5);
        let others = (n - e) * (a.stayers_take * a.offer_cost + a.contact_cost);
        let save_rate = (e * a.contact_cost + others) / (e * (a.value_kept - a.offer_cost));
        let value_kept = a.offer_cost + (e * a.contact_cost + others) / (e * a.save_rate);
        let offer_cost = (e * (a.save_rate * a.value_kept - a.contact_cost) - (n - e) * a.contact_cost)
            / (e * a.save_rate + (n - e) * a.stayers_take);
        for (word, expected) in [("save_rate", save_rate), ("value_kept", value_kept), ("offer_cost", offer_cost)] {
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
        let a =
            ChurnAmounts { value_kept: 30.0, save_rate: 0.9, offer_cost: 29.0, stayers_take: 0.9, contact_cost: 5.0 };
        let all = Sensitivity::of_all(&Economics::Churn(a), 100.0, 10.0);
        assert_eq!(of(&all, "save_rate").break_even, None);
        assert!((of(&all, "save_rate").more.0 - 1.0).abs() < 1e-12, "no more than always");
        let plain = PlainAmounts { act_event: 20.0, act_other: -2.0, leave_event: 0.0, leave_other: 0.0 };
        let all = Sensitivity::of_all(&Economics::Plain(plain), 50.0, 50.0);
        assert_eq!(of(&all, "act_other").break_even, None, "nobody without the event is acted on");
        assert_eq!(of(&all, "leave_event").margin(), None, "a share of nothing is nothing");
    }

    proptest! {
        #[test]
        fn at_its_break_even_a_decision_earns_nothing(
            value_kept in 0.0..1e4f64, save_rate in 0.0..1.0f64, offer_cost in 0.0..1e3f64,
            stayers_take in 0.0..1.0f64, contact_cost in 0.0..100.0f64, acted in 1.0..1e6f64, share in 0.0..1.0f64,
        ) {
            let economics =
                Economics::Churn(ChurnAmounts { value_kept, save_rate, offer_cost, stayers_take, contact_cost });
            let events = acted * share;
            for s in Sensitivity::of_all(&economics, acted, events) {
                if let Some(at) = s.break_even {
                    let worth = economics.with(&s.assumption, at).prices().profit(acted, events);
                    prop_assert!(worth.abs() < 1e-6 * acted * (1.0 + value_kept + offer_cost + contact_cost), "{s:?}: {worth}");
                    prop_assert!(economics.with(&s.assumption, at).check().is_ok(), "{s:?}");
                }
            }
        }
    }
}
