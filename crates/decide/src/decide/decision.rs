//! What has been decided about whom, and what that gains under any amounts.

use rayon::prelude::*;

use super::action::PolicyAction;
use super::economics::Economics;
use super::offers::Given;
use super::payoff::Payoff;

/// Customers added up together where amounts differ between them; always the same ones, so that
/// the sum is.
const BLOCK: usize = 4_096;

/// Customers by what is done about them.
#[derive(Debug, Clone)]
pub enum ConfusionCounts<'a> {
    /// Numbers of customers of the population, where amounts are the same for everybody.
    Counted {
        /// Acted on, with the event and without.
        act: Payoff,
        /// Referred.
        refer: Payoff,
    },
    /// One by one, where amounts differ.
    Each {
        /// Their amounts.
        values: &'a Given,
        /// What is done.
        actions: &'a [PolicyAction],
        /// What happened.
        event: &'a [bool],
        /// How many of the population each stands for, with the event and without.
        weights: Payoff,
    },
}

impl ConfusionCounts<'_> {
    /// What the decision gains over leaving everybody alone, where amounts are on average as given.
    pub fn gain(&self, typical: &Economics<f64>) -> f64 {
        match self {
            Self::Counted { act, refer } => {
                let payoffs = typical.payoffs();
                payoffs.gain().weighed(*act) + payoffs.gain_of_referring().unwrap_or_default().weighed(*refer)
            }
            Self::Each { values, actions, event, weights } => {
                let payoffs = values.under(typical);
                let gain = |at: usize| {
                    let gained = match actions[at] {
                        PolicyAction::Leave => return 0.0,
                        PolicyAction::Act => payoffs(at).gain(),
                        PolicyAction::Refer => payoffs(at).gain_of_referring().unwrap_or_default(),
                    };
                    gained.happened(event[at]) * weights.happened(event[at])
                };
                let blocks = (0..event.len().div_ceil(BLOCK)).into_par_iter().map(|block| {
                    let rows = block * BLOCK..event.len().min((block + 1) * BLOCK);
                    rows.map(gain).sum::<f64>()
                });
                blocks.collect::<Vec<f64>>().iter().sum()
            }
        }
    }
}
