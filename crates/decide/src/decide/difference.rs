//! Two policies on the same customers: what one brings more, and whom they disagree about.

use serde::{Deserialize, Serialize};

use super::action::PolicyAction;
use super::curve::ExpectedProfit;
use super::payoff::{Payoff, Payoffs};
use pronoia_data::stats::{Count, Z90, Z95};

/// What the first of two brings more than the second.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Difference {
    /// Expected profit of the first less that of the second.
    pub profit: f64,
    /// Half the width of its 95 % interval, by the spread of single customers'
    /// differences.
    pub reach: f64,
    /// Customers on whom only the first acts.
    pub only_first: Count,
    /// Customers on whom only the second acts.
    pub only_second: Count,
    /// Customers on whom both act.
    pub both: Count,
    /// Customers on whom neither acts.
    pub neither: Count,
}

impl Difference {
    /// Compares acting on customers from one cut-off each, for `population`
    /// customers like the ones judged. `first`, `second` and `event` belong to the
    /// same rows; `gain` is what acting brings compared with leaving alone.
    pub fn of([first, second]: [(&[f64], f64); 2], event: &[bool], gain: Payoff, population: f64) -> Self {
        let mut counts = [[Count::default(); 2]; 2];
        let (mut sum, mut squares) = (0.0, 0.0);
        for (row, &happened) in event.iter().enumerate() {
            let acts = [first.0[row] >= first.1, second.0[row] >= second.1];
            counts[usize::from(acts[0])][usize::from(acts[1])].add(happened);
            let worth = gain.happened(happened);
            let apart = worth * (f64::from(u8::from(acts[0])) - f64::from(u8::from(acts[1])));
            sum += apart;
            squares += apart * apart;
        }
        let n = event.len().max(1) as f64;
        let variance = (squares / n - (sum / n).powi(2)).max(0.0);
        Self {
            profit: sum / n * population,
            reach: Z95 * (variance / n).sqrt() * population,
            only_first: counts[1][0],
            only_second: counts[0][1],
            both: counts[1][1],
            neither: counts[0][0],
        }
    }

    /// Whether the interval leaves out nothing at all.
    pub fn is_clear(&self) -> bool {
        self.profit.abs() > self.reach
    }
}

/// What one rule brings more than another on the same customers, and its 90 % interval; each
/// stands for `weights` of the population.
pub fn gain_between(
    [first, second]: [&[PolicyAction]; 2],
    payoffs: impl Fn(usize) -> Payoffs,
    event: &[bool],
    weights: Payoff,
) -> ExpectedProfit {
    summed(event, weights, |at| {
        if first[at] == second[at] {
            return Payoff::default();
        }
        let payoffs = payoffs(at);
        payoffs.of(first[at]).over(payoffs.of(second[at]))
    })
}

/// What the same customers bring more when this is done about each of them than when that is, and
/// the 90 % interval of it; each stands for `weights` of the population.
pub fn worth_between(
    this: impl Fn(usize) -> Payoff,
    that: impl Fn(usize) -> Payoff,
    event: &[bool],
    weights: Payoff,
) -> ExpectedProfit {
    summed(event, weights, |at| this(at).over(that(at)))
}

/// What has been decided about some customers comes to, and its 90 % interval; each stands for
/// `weights` of the population.
pub fn worth_of_actions(
    actions: &[PolicyAction],
    payoffs: impl Fn(usize) -> Payoffs,
    event: &[bool],
    weights: Payoff,
) -> ExpectedProfit {
    summed(event, weights, |at| payoffs(at).of(actions[at]))
}

/// A sum over customers, with an interval by the spread of single ones.
fn summed(event: &[bool], weights: Payoff, of: impl Fn(usize) -> Payoff) -> ExpectedProfit {
    let (mut sum, mut squares) = (0.0, 0.0);
    for (at, &happened) in event.iter().enumerate() {
        let worth = of(at).happened(happened) * weights.happened(happened);
        sum += worth;
        squares += worth * worth;
    }
    let reach = Z90 * (squares - sum * sum / event.len().max(1) as f64).max(0.0).sqrt();
    ExpectedProfit { profit: sum, low: sum - reach, high: sum + reach }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn everybody_is_in_one_of_four_groups_and_the_difference_is_that_of_the_profits() {
        let (first, second) = ([0.9, 0.8, 0.3, 0.1], [0.9, 0.2, 0.6, 0.1]);
        let event = [true, false, true, false];
        let gain = Payoff { event: 10.0, other: -4.0 };
        let apart = Difference::of([(&first, 0.5), (&second, 0.5)], &event, gain, 400.0);
        assert_eq!(apart.only_first, Count { rows: 1, events: 0 });
        assert_eq!(apart.only_second, Count { rows: 1, events: 1 });
        assert_eq!((apart.both.rows, apart.neither.rows), (1, 1));
        // Profits per 4 customers: 10 − 4 = 6 against 10 + 10 = 20.
        assert!((apart.profit - 100.0 * (6.0 - 20.0)).abs() < 1e-9 && !apart.is_clear(), "{apart:?}");
        let same = Difference::of([(&first, 0.5), (&first, 0.5)], &event, gain, 400.0);
        assert_eq!((same.profit, same.reach), (0.0, 0.0));
    }
}
