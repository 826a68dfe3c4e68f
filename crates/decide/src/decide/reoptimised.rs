//! What could be gained under other amounts if the line were drawn again.

use super::assumption::Assumption;
use super::economics::Economics;
use super::offers::Given;
use super::payoff::Payoff;
use super::ranking::Ranking;
use super::sums::{CustomerPayoffs, OutcomeSums};

/// A share of the customers below which a line is drawn by the noise of a few.
const FEWEST: f64 = 0.01;

/// Judged customers in the order of a rule, for whom the line may be drawn anywhere.
#[derive(Debug, Clone, Copy)]
pub struct ChosenAgain<'a> {
    /// The customers in that order.
    pub ranking: &'a Ranking,
    /// How many of the population each stands for.
    pub weights: Payoff,
    /// The customers one by one, where amounts differ between them.
    pub each: Option<Each<'a>>,
}

/// Customers whose amounts differ.
#[derive(Debug, Clone, Copy)]
pub struct Each<'a> {
    /// In the order of the ranking.
    pub order: &'a [usize],
    /// What happened, by customer.
    pub event: &'a [bool],
    /// Amounts, by customer.
    pub values: &'a Given,
}

impl ChosenAgain<'_> {
    /// The most that acting on the first so many gains over leaving everybody alone, where amounts
    /// are on average as given; nothing where no line gains. A line below one customer in a hundred
    /// is not looked at.
    pub fn best(&self, typical: &Economics<f64>) -> f64 {
        self.gains(typical).into_iter().fold(0.0, f64::max)
    }

    /// The value of an assumption, in which gains are linear, at which even the best line gains
    /// nothing, or from which on one begins to gain; none if no possible value is.
    pub fn break_even(&self, typical: &Economics<f64>, assumption: &Assumption) -> Option<f64> {
        let value = *typical.amount(assumption.word)?;
        if !assumption.is_linear() {
            return super::sensitivity::break_even(assumption, value, |other| {
                self.best(&typical.with(assumption.word, other))
            });
        }
        let other = if value == 0.0 { 1.0 } else { value / 2.0 };
        let (here, there) = (self.gains(typical), self.gains(&typical.with(assumption.word, other)));
        let lines: Vec<(f64, f64)> = here.iter().zip(&there).map(|(&a, &b)| (a, (b - a) / (other - value))).collect();
        let gains_at = |x: f64| lines.iter().any(|&(at_value, slope)| at_value + slope * (x - value) > 0.0);
        let crossings = || lines.iter().filter(|line| line.1 != 0.0).map(|&(at_value, slope)| value - at_value / slope);
        let nearer = |a: &f64, b: &f64| (a - value).abs().total_cmp(&(b - value).abs());
        let found = if gains_at(value) {
            // Where the last of the lines that gain ceases to, on either side.
            let tiny = 1e-9 * (1.0 + value.abs());
            crossings().filter(|&x| !gains_at(if x < value { x - tiny } else { x + tiny })).min_by(nearer)
        } else {
            crossings().min_by(nearer)
        };
        found.filter(|at| assumption.is_possible(*at))
    }

    /// What is gained at every line that is looked at.
    pub(super) fn gains(&self, typical: &Economics<f64>) -> Vec<f64> {
        let sums = match self.each {
            None => OutcomeSums::of(self.ranking, &CustomerPayoffs::Same(typical.payoffs())),
            Some(Each { order, event, values }) => {
                let payoffs = values.under(typical);
                OutcomeSums::of(self.ranking, &CustomerPayoffs::Each { order, event, payoffs: &payoffs })
            }
        };
        let fewest = FEWEST * self.ranking.rows as f64;
        let mut gain = 0.0;
        let stands = self.ranking.stands[1..].iter().zip(&sums);
        let gains = stands.filter_map(|(stand, sum)| {
            gain += sum.gain.weighed(self.weights);
            (stand.acted as f64 >= fewest).then_some(gain)
        });
        gains.collect()
    }
}
