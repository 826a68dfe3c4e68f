//! Whom the money is for.

use serde::{Deserialize, Serialize};

use super::payoff::Payoff;
use pronoia_data::stats::{logit, sigmoid};

/// Customers to whom a decision will be applied.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Population {
    /// How many; without a number, money is per 1 000 customers.
    pub customers: Option<f64>,
    /// Share of them with the event, where it is not that of the customers judged.
    pub event_rate: Option<EventRate>,
}

/// Another event rate than that of the customers judged.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct EventRate {
    /// Share of the customers judged who have the event.
    pub judged: f64,
    /// Share of the population.
    pub population: f64,
}

/// Probabilities moved from the event rate of the customers judged to that of others.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Shift(f64);

impl Population {
    /// So many customers like the ones judged.
    pub fn of(customers: f64) -> Self {
        Self { customers: Some(customers), event_rate: None }
    }

    /// Customers whom the money is for.
    pub fn size(&self) -> f64 {
        self.customers.unwrap_or(1_000.0)
    }

    /// How much each judged customer counts, with the event and without, so that all together are
    /// the population.
    pub fn weights(&self, judged: f64, events: f64) -> Payoff {
        let each = self.size() / judged;
        match self.event_rate.filter(|_| events > 0.0 && events < judged) {
            None => Payoff { event: each, other: each },
            Some(rate) => Payoff {
                event: self.size() * rate.population / events,
                other: self.size() * (1.0 - rate.population) / (judged - events),
            },
        }
    }

    /// What moves probabilities told of the customers judged to the population: the log-odds of
    /// all shift by as much as those of the rates do (Elkan 2001, theorem 2).
    pub fn shift(&self) -> Shift {
        let apart = |rate: EventRate| logit(rate.population) - logit(rate.judged);
        Shift(self.event_rate.map_or(0.0, apart))
    }
}

impl Shift {
    /// The probability among the population.
    pub fn there(&self, probability: f64) -> f64 {
        // Above 1 stands for nobody.
        if self.0 == 0.0 || probability > 1.0 { probability } else { sigmoid(logit(probability) + self.0) }
    }

    /// The probability as it was told, by that among the population.
    pub fn back(&self, probability: f64) -> f64 {
        Self(-self.0).there(probability)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn probabilities_move_with_the_event_rate() {
        let rate = EventRate { judged: 0.2, population: 0.1 };
        let population = Population { customers: Some(500.0), event_rate: Some(rate) };
        let shift = population.shift();
        // By Bayes: odds of 0.2 and 0.1 differ by 4/9.
        let moved = shift.there(0.5);
        assert!((moved - (4.0 / 9.0) / (1.0 + 4.0 / 9.0)).abs() < 1e-12);
        assert!((shift.back(moved) - 0.5).abs() < 1e-12);
        assert!((shift.there(0.2) - 0.1).abs() < 1e-12);
        let weights = population.weights(1_000.0, 200.0);
        assert!((weights.event * 200.0 - 50.0).abs() < 1e-9 && (weights.other * 800.0 - 450.0).abs() < 1e-9);
        let same = Population::of(500.0);
        assert_eq!(same.shift().there(0.37), 0.37);
        assert_eq!(same.weights(1_000.0, 200.0), Payoff { event: 0.5, other: 0.5 });
    }
}
