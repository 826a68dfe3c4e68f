//! The economics plus the rule that turns a probability into an action.

use serde::{Deserialize, Serialize};

use super::action::PolicyAction;
use super::economics::{Economics, EconomicsError};
use super::offers::{OfferAmounts, Offers};
use super::payoff::Payoffs;
use super::rule::Rule;
use super::streaming_cutoff::{Front, LeastKey};
use pronoia_data::Table;

/// Economics and rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Policy {
    /// What outcomes are worth; where there are several offers, with the first of them.
    pub economics: Economics,
    /// What can be offered.
    #[serde(default, skip_serializing_if = "Offers::is_single")]
    pub offers: Offers,
    /// On whom to act.
    pub rule: Rule,
}

impl Policy {
    /// Whether there is one offer, with every amount the same for everybody.
    pub fn is_same_for_all(&self) -> bool {
        self.offers.is_single() && self.economics.is_same_for_all()
    }

    /// The columns that amounts are worked out from, each once.
    pub fn inputs(&self) -> Vec<String> {
        let mut inputs: Vec<String> = Vec::new();
        for name in self.offers.each(&self.economics).iter().flat_map(Economics::inputs) {
            if !inputs.contains(&name) {
                inputs.push(name);
            }
        }
        inputs
    }

    /// Works out every amount for rows of a table, and writes down in the choice what formulas come
    /// to on average; also for how many rows one of them had no value, who are given the mean of
    /// the others.
    ///
    /// # Errors
    /// [`EconomicsError`] for the first amount that cannot be, for anybody.
    pub fn worked_out(&mut self, table: &Table, rows: &[usize]) -> Result<(OfferAmounts, u64), EconomicsError> {
        self.offers.worked_out(&mut self.economics, table, rows)
    }

    /// Works out every amount for the rows of a list; also for how many rows one of them has no
    /// value that it may be, who are given what it came to on average when it was chosen.
    ///
    /// # Errors
    /// [`EconomicsError`] if one cannot be worked out on this table.
    pub fn applied(&self, list: &Table) -> Result<(OfferAmounts, u64), EconomicsError> {
        self.offers.applied(&self.economics, list)
    }
}

impl Rule {
    /// What is done about each of some customers, by their probabilities and what each is worth;
    /// together they stand for `size` customers.
    pub fn actions(&self, probability: &[f64], payoffs: impl Fn(usize) -> Payoffs, size: f64) -> Vec<PolicyAction> {
        let worth: Vec<Payoffs> = (0..probability.len()).map(payoffs).collect();
        let keys = || worth.iter().zip(probability).map(|(worth, &p)| self.by.key(p, worth));
        let cut = self.fixed_cut().unwrap_or_else(|| {
            let mut front = Front::of(self, probability.len(), size);
            for ((key, worth), &p) in keys().zip(&worth).zip(probability) {
                front.meet(key, worth.spent.expected(p), p);
            }
            front.cut()
        });
        keys().zip(probability).map(|(key, &p)| self.action(cut, key, p)).collect()
    }

    /// What is done about a customer with this key and probability.
    pub fn action(&self, cut: LeastKey, key: f64, probability: f64) -> PolicyAction {
        if cut.acts(key) {
            PolicyAction::Act
        } else if self.refer_from.is_some_and(|from| probability >= from) {
            PolicyAction::Refer
        } else {
            PolicyAction::Leave
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{CutOff, Order, Payoff};
    use super::*;
    use proptest::prelude::*;

    fn worth(event: f64, other: f64, spent: f64) -> Payoffs {
        Payoffs { act: Payoff { event, other }, spent: Payoff { event: spent, other: spent }, ..Payoffs::default() }
    }

    fn acted(actions: &[PolicyAction]) -> Vec<usize> {
        (0..actions.len()).filter(|&at| actions[at] == PolicyAction::Act).collect()
    }

    #[test]
    fn a_line_can_be_drawn_in_five_ways() {
        let p = [0.9, 0.5, 0.5, 0.2, 0.1];
        let by = |line| {
            let rule = Rule { by: Order::Probability, line, limits: vec![], refer_from: None };
            acted(&rule.actions(&p, |_| worth(10.0, -2.0, 3.0), 500.0))
        };
        assert_eq!(by(CutOff::Least(0.5)), [0, 1, 2]);
        assert_eq!(by(CutOff::Customers(250.0)), [0], "the two with 0.5 are not parted");
        assert_eq!(by(CutOff::Customers(300.0)), [0, 1, 2]);
        assert_eq!(by(CutOff::Share(0.8)), [0, 1, 2, 3]);
        assert_eq!(by(CutOff::Budget(1_199.0)), [0, 1, 2]);
        assert_eq!(by(CutOff::Budget(1_200.0)), [0, 1, 2, 3]);
        assert_eq!(by(CutOff::Precision(0.5)), [0, 1, 2, 3], "2.1 of 4");
        assert_eq!(by(CutOff::Precision(0.95)), Vec::<usize>::new());
    }

    #[test]
    fn a_budget_goes_to_whom_it_gains_most_and_never_to_a_loss() {
        let p = [0.5, 0.5, 0.5, 0.1];
        let payoffs = |at: usize| {
            [worth(100.0, 0.0, 40.0), worth(60.0, 0.0, 10.0), worth(50.0, 0.0, 10.0), worth(1.0, -9.0, 1.0)][at]
        };
        let by = |by, line| acted(&Rule { by, line, limits: vec![], refer_from: None }.actions(&p, payoffs, 4.0));
        assert_eq!(by(Order::GainPerCost, CutOff::Budget(20.0)), [1, 2]);
        assert_eq!(by(Order::Gain, CutOff::Budget(40.0)), [0]);
        assert_eq!(by(Order::Gain, CutOff::Share(1.0)), [0, 1, 2], "acting on the last would lose");
        assert_eq!(acted(&Rule::value_aware().actions(&p, payoffs, 4.0)), [0, 1, 2]);
    }

    #[test]
    fn limits_hold_wherever_the_line_is() {
        let p = [0.9, 0.8, 0.2, 0.7];
        let by = |line, limits| {
            let rule = Rule { by: Order::Probability, line, limits, refer_from: None };
            acted(&rule.actions(&p, |_| worth(10.0, -2.0, 3.0), 4.0))
        };
        assert_eq!(by(CutOff::Least(0.1), vec![CutOff::Customers(3.0)]), [0, 1, 3]);
        assert_eq!(by(CutOff::Least(0.1), vec![CutOff::Customers(3.0), CutOff::Precision(0.85)]), [0, 1]);
        assert_eq!(by(CutOff::Least(0.75), vec![CutOff::Customers(3.0)]), [0, 1]);
        assert_eq!(by(CutOff::Precision(0.65), vec![CutOff::Budget(8.0)]), [0, 1]);
    }

    #[test]
    fn between_two_cut_offs_somebody_looks() {
        let rule = Rule { refer_from: Some(0.2), ..Rule::cut_off(0.5) };
        let actions = rule.actions(&[0.1, 0.2, 0.5, 0.49], |_| Payoffs::default(), 4.0);
        assert_eq!(actions, [PolicyAction::Leave, PolicyAction::Refer, PolicyAction::Act, PolicyAction::Refer]);
    }

    proptest! {
        #[test]
        fn acting_where_each_gains_is_never_expected_to_bring_less_than_one_cut_off(
            customers in prop::collection::vec((0.0..1.0f64, -50.0..200.0f64, -60.0..10.0f64), 1..60),
        ) {
            let p: Vec<f64> = customers.iter().map(|c| c.0).collect();
            let payoffs = |at: usize| worth(customers[at].1, customers[at].2, 1.0);
            let expected = |rule: Rule| -> f64 {
                acted(&rule.actions(&p, payoffs, p.len() as f64)).into_iter().map(|at| payoffs(at).gain().expected(p[at])).sum()
            };
            let aware = expected(Rule::value_aware());
            for cut_off in p.iter().copied().chain([0.0, 1.1]) {
                let single = expected(Rule::cut_off(cut_off));
                prop_assert!(aware >= single - 1e-9 * (1.0 + single.abs()), "{} {}", aware, single);
            }
            for (share, budget) in [(0.1, 5.0), (0.5, 20.0)] {
                let rule = Rule { by: Order::Gain, line: CutOff::Share(share), limits: vec![], refer_from: None };
                let n = acted(&rule.actions(&p, payoffs, p.len() as f64)).len() as f64;
                prop_assert!(n <= share * p.len() as f64 * (1.0 + 1e-9));
                let rule = Rule { by: Order::GainPerCost, line: CutOff::Budget(budget), limits: vec![], refer_from: None };
                prop_assert!(acted(&rule.actions(&p, payoffs, p.len() as f64)).len() as f64 <= budget * (1.0 + 1e-9));
            }
        }
    }
}
