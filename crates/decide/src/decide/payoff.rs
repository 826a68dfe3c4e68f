//! What one customer is worth by what is done and what happens.

use serde::{Deserialize, Serialize};

use super::action::PolicyAction;

/// Money by what happens to one customer.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Payoff {
    /// With the event.
    pub event: f64,
    /// Without it.
    pub other: f64,
}

/// What each thing that can be done about one customer is worth.
///
/// Money is counted from the reference of the question: for an offer that keeps customers, that
/// nothing is done; for credit, that nothing is lent; for a campaign, that nothing is bought.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct Payoffs {
    /// Leaving them alone.
    pub leave: Payoff,
    /// Acting.
    pub act: Payoff,
    /// Having somebody look first, where that is possible.
    pub refer: Option<Payoff>,
    /// What acting takes out of a budget.
    pub spent: Payoff,
}

impl Payoff {
    /// What `customers` of whom `events` have the event come to.
    pub fn of(&self, customers: f64, events: f64) -> f64 {
        self.event * events + self.other * (customers - events)
    }

    /// What a customer with this probability of the event is expected to bring.
    pub fn expected(&self, probability: f64) -> f64 {
        self.of(1.0, probability)
    }

    /// Both together, each counted so much.
    pub(super) fn weighed(&self, weights: Self) -> f64 {
        self.event * weights.event + self.other * weights.other
    }

    /// What it comes to by what happened.
    pub fn happened(&self, event: bool) -> f64 {
        if event { self.event } else { self.other }
    }

    /// How much more it is than another.
    pub fn over(&self, other: Self) -> Self {
        Self { event: self.event - other.event, other: self.other - other.other }
    }

    /// The probability from which this is above nothing; none if it always or never is, or is so
    /// for the low ones.
    pub fn break_even(&self) -> Option<f64> {
        let spread = self.event - self.other;
        let p = -self.other / spread;
        (spread > 0.0 && (0.0..=1.0).contains(&p)).then_some(p)
    }
}

impl Payoffs {
    /// Doing this.
    pub fn of(&self, action: PolicyAction) -> Payoff {
        match action {
            PolicyAction::Act => self.act,
            PolicyAction::Refer => self.refer.unwrap_or(self.leave),
            PolicyAction::Leave => self.leave,
        }
    }

    /// Acting, compared with leaving alone.
    pub fn gain(&self) -> Payoff {
        self.act.over(self.leave)
    }

    /// Having somebody look, compared with leaving alone.
    pub fn gain_of_referring(&self) -> Option<Payoff> {
        self.refer.map(|refer| refer.over(self.leave))
    }
}
