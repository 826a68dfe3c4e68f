//! What is decided about customers once a model has told their probabilities.

use super::action::PolicyAction;
use super::curve::ExpectedProfit;
use super::difference::{worth_between, worth_of_actions};
use super::offers::{Given, OfferAmounts};
use super::payoff::Payoff;
use super::population::Population;
use super::rule::Rule;

/// What is decided with the probabilities of some customers.
#[derive(Debug, Clone, Copy)]
pub struct Stakes<'a> {
    /// On whom to act.
    pub rule: &'a Rule,
    /// Their amounts.
    pub offered: &'a OfferAmounts,
    /// Whom the money is for.
    pub population: &'a Population,
}

/// What is done about some customers.
#[derive(Debug, Clone)]
pub struct DecisionTotals {
    /// Their probabilities among the population.
    pub probability: Vec<f64>,
    /// Their amounts, and what each would be offered.
    pub given: Given,
    /// What is done about each.
    pub actions: Vec<PolicyAction>,
}

impl Stakes<'_> {
    /// Decides on customers by the probabilities that a model told.
    pub fn decided(&self, told: &[f64]) -> DecisionTotals {
        let shift = self.population.shift();
        let probability: Vec<f64> = told.iter().map(|&p| shift.there(p)).collect();
        let given = self.offered.clone().given(self.rule.by, &probability);
        let actions = self.rule.actions(&probability, |at| given.payoffs_of(at), self.population.size());
        DecisionTotals { probability, given, actions }
    }

    /// How many of the population each of the customers stands for.
    pub fn weights(&self, event: &[bool]) -> Payoff {
        let events = event.iter().filter(|&&e| e).count();
        self.population.weights(event.len() as f64, events as f64)
    }

    /// What a decision comes to, and its 90 % interval.
    pub fn worth(&self, decided: &DecisionTotals, event: &[bool]) -> ExpectedProfit {
        worth_of_actions(&decided.actions, |at| decided.given.payoffs_of(at), event, self.weights(event))
    }

    /// What it gains over leaving everybody alone, and the 90 % interval of that.
    pub fn gain(&self, decided: &DecisionTotals, event: &[bool]) -> ExpectedProfit {
        let alone = |at: usize| decided.given.payoffs_of(at).leave;
        worth_between(|at| decided.worth(at), alone, event, self.weights(event))
    }

    /// What it brings more than others do on average, and the 90 % interval of that.
    pub fn over_mean(&self, decided: &DecisionTotals, others: &[DecisionTotals], event: &[bool]) -> ExpectedProfit {
        let share = 1.0 / others.len().max(1) as f64;
        // Differences are summed, so that where the same is done nothing at all is left.
        let over = |at: usize| {
            let here = decided.worth(at);
            others.iter().map(|other| here.over(other.worth(at))).fold(Payoff::default(), |sum, apart| Payoff {
                event: sum.event + apart.event * share,
                other: sum.other + apart.other * share,
            })
        };
        worth_between(over, |_| Payoff::default(), event, self.weights(event))
    }
}

impl DecisionTotals {
    /// What is done about one customer brings.
    pub fn worth(&self, customer: usize) -> Payoff {
        self.given.payoffs_of(customer).of(self.actions[customer])
    }
}
