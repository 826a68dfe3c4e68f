//! What the customers between two stands of a ranking come to together.

use rayon::prelude::*;

use super::payoff::{Payoff, Payoffs};
use super::ranking::Ranking;

/// What judged customers are worth.
#[derive(Clone, Copy)]
pub enum CustomerPayoffs<'a> {
    /// The same for all of them.
    Same(Payoffs),
    /// Different for each.
    Each {
        /// Customers in the order of the ranking.
        order: &'a [usize],
        /// What happened, by customer.
        event: &'a [bool],
        /// What one is worth, by customer.
        payoffs: &'a (dyn Fn(usize) -> Payoffs + Sync),
    },
}

/// Customers between two stands; sums of those with the event and of those without.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(super) struct OutcomeSums {
    /// How many.
    pub customers: Payoff,
    /// Leaving all of them alone.
    pub leave: Payoff,
    /// Acting, compared with leaving alone.
    pub gain: Payoff,
    /// Referring, compared with leaving alone.
    pub refer: Payoff,
    /// What acting takes out of a budget.
    pub spent: Payoff,
    /// Gains of those alone on whom acting gains something, as it turned out.
    pub known: Payoff,
    /// Sum of squared differences of single gains from their mean.
    pub spread: Payoff,
}

impl OutcomeSums {
    /// Between every two stands of a ranking, from the first.
    pub fn of(ranking: &Ranking, worths: &CustomerPayoffs) -> Vec<Self> {
        let between = ranking.stands.par_windows(2);
        match worths {
            CustomerPayoffs::Same(payoffs) => between
                .map(|pair| {
                    let events = (pair[1].events - pair[0].events) as f64;
                    Self::of_alike(payoffs, events, (pair[1].acted - pair[0].acted) as f64 - events)
                })
                .collect(),
            CustomerPayoffs::Each { order, event, payoffs } => between
                .map(|pair| {
                    let places = &order[pair[0].acted as usize..pair[1].acted as usize];
                    let mut sums = Self::default();
                    places.iter().for_each(|&row| sums.add(&payoffs(row), event[row]));
                    sums.settle();
                    sums
                })
                .collect(),
        }
    }

    fn of_alike(payoffs: &Payoffs, events: f64, others: f64) -> Self {
        let times = |payoff: Payoff| Payoff { event: payoff.event * events, other: payoff.other * others };
        Self {
            customers: Payoff { event: events, other: others },
            leave: times(payoffs.leave),
            gain: times(payoffs.gain()),
            refer: times(payoffs.gain_of_referring().unwrap_or_default()),
            spent: times(payoffs.spent),
            known: times(Payoff { event: payoffs.gain().event.max(0.0), other: payoffs.gain().other.max(0.0) }),
            spread: Payoff::default(),
        }
    }

    fn add(&mut self, payoffs: &Payoffs, event: bool) {
        let gain = payoffs.gain().happened(event);
        let refer = payoffs.gain_of_referring().unwrap_or_default().happened(event);
        let to = |sum: &mut Payoff, value: f64| if event { sum.event += value } else { sum.other += value };
        to(&mut self.customers, 1.0);
        to(&mut self.leave, payoffs.leave.happened(event));
        to(&mut self.gain, gain);
        to(&mut self.refer, refer);
        to(&mut self.spent, payoffs.spent.happened(event));
        to(&mut self.known, gain.max(0.0));
        // The plain sum of squares, until all are there.
        to(&mut self.spread, gain * gain);
    }

    fn settle(&mut self) {
        let about_mean =
            |squares: f64, sum: f64, n: f64| if n > 0.0 { (squares - sum * sum / n).max(0.0) } else { 0.0 };
        self.spread = Payoff {
            event: about_mean(self.spread.event, self.gain.event, self.customers.event),
            other: about_mean(self.spread.other, self.gain.other, self.customers.other),
        };
    }
}
