//! The money of a decision, in the words of the question.

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// What one customer brings or costs, compared with leaving them alone.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Prices {
    /// Acting on a customer to whom it would happen.
    pub act_event: f64,
    /// Acting on a customer to whom it would not.
    pub act_other: f64,
}

/// The amounts behind the prices.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum Economics {
    /// An offer to customers who may leave.
    Churn(ChurnAmounts),
    /// Prices given outright.
    Plain(PlainAmounts),
}

/// Amounts of an offer that is meant to keep customers.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct ChurnAmounts {
    /// What a kept customer brings.
    pub value_kept: f64,
    /// Chance that the offer keeps a customer who would leave, 0 to 1.
    pub save_rate: f64,
    /// Cost of the offer when it is taken.
    pub offer_cost: f64,
    /// Chance that a customer who would stay takes it too, 0 to 1.
    pub stayers_take: f64,
    /// Cost of making the offer to one customer.
    pub contact_cost: f64,
}

/// A plain table of money.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct PlainAmounts {
    /// Acting on a customer with the event.
    pub act_event: f64,
    /// Acting on one without.
    pub act_other: f64,
    /// Leaving alone one with the event.
    pub leave_event: f64,
    /// Leaving alone one without.
    pub leave_other: f64,
}

/// An amount that cannot be.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum EconomicsError {
    /// Not a share.
    #[error("“{name}” is a chance and must be between 0 and 100 %; it is {value}.")]
    Share {
        /// Which amount.
        name: &'static str,
        /// Its value as per cent.
        value: f64,
    },
    /// Not an amount of money.
    #[error("“{name}” must be {range}; it is {value}.")]
    Amount {
        /// Which amount.
        name: &'static str,
        /// What is allowed.
        range: &'static str,
        /// Its value.
        value: f64,
    },
}

/// What an assumption is counted in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Unit {
    /// A chance, 0 to 1.
    Chance,
    /// Money that is brought or spent, 0 or more.
    Amount,
    /// Money, gained or lost.
    Balance,
}

/// One of the amounts behind the prices.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Assumption {
    /// The word for it in forms and files.
    pub word: &'static str,
    /// Its name.
    pub name: &'static str,
    /// What it is assumed to be.
    pub value: f64,
    /// What it is counted in.
    pub unit: Unit,
}

/// More money than any amount is.
const MOST: f64 = 1e12;

impl Assumption {
    /// What it may be.
    fn range(&self) -> std::ops::RangeInclusive<f64> {
        match self.unit {
            Unit::Chance => 0.0..=1.0,
            Unit::Amount => 0.0..=MOST,
            Unit::Balance => -MOST..=MOST,
        }
    }

    /// Whether it may be that.
    pub fn is_possible(&self, value: f64) -> bool {
        self.range().contains(&value)
    }

    /// What it may be that comes nearest.
    pub fn nearest_possible(&self, value: f64) -> f64 {
        value.clamp(*self.range().start(), *self.range().end())
    }
}

impl Economics {
    /// The amounts behind the prices, in the order in which they are asked for.
    pub fn assumptions(&self) -> Vec<Assumption> {
        let of = |word, name, value, unit| Assumption { word, name, value, unit };
        match self {
            Self::Churn(a) => vec![
                of("value_kept", "A kept customer brings", a.value_kept, Unit::Amount),
                of("save_rate", "The offer keeps a leaver", a.save_rate, Unit::Chance),
                of("offer_cost", "The offer, if taken", a.offer_cost, Unit::Amount),
                of("stayers_take", "Stayers who take it too", a.stayers_take, Unit::Chance),
                of("contact_cost", "Making the offer", a.contact_cost, Unit::Amount),
            ],
            Self::Plain(a) => vec![
                of("act_event", "Acting, with the event", a.act_event, Unit::Balance),
                of("act_other", "Acting, without", a.act_other, Unit::Balance),
                of("leave_event", "Leaving alone, with the event", a.leave_event, Unit::Balance),
                of("leave_other", "Leaving alone, without", a.leave_other, Unit::Balance),
            ],
        }
    }

    /// The same with another value for one assumption.
    #[must_use]
    pub fn with(&self, assumption: &Assumption, value: f64) -> Self {
        let mut other = self.clone();
        let amount = match (&mut other, assumption.word) {
            (Self::Churn(a), "value_kept") => &mut a.value_kept,
            (Self::Churn(a), "save_rate") => &mut a.save_rate,
            (Self::Churn(a), "offer_cost") => &mut a.offer_cost,
            (Self::Churn(a), "stayers_take") => &mut a.stayers_take,
            (Self::Churn(a), "contact_cost") => &mut a.contact_cost,
            (Self::Plain(a), "act_event") => &mut a.act_event,
            (Self::Plain(a), "act_other") => &mut a.act_other,
            (Self::Plain(a), "leave_event") => &mut a.leave_event,
            (Self::Plain(a), "leave_other") => &mut a.leave_other,
            // An assumption of another question changes nothing here.
            _ => return other,
        };
        *amount = value;
        other
    }

    /// Checks every amount.
    ///
    /// # Errors
    /// [`EconomicsError`] for the first that cannot be.
    pub fn check(&self) -> Result<(), EconomicsError> {
        let impossible = self.assumptions().into_iter().find(|assumption| !assumption.is_possible(assumption.value));
        let Some(Assumption { name, value, unit, .. }) = impossible else { return Ok(()) };
        Err(match unit {
            Unit::Chance => EconomicsError::Share { name, value: value * 100.0 },
            Unit::Amount => EconomicsError::Amount { name, range: "an amount of 0 or more", value },
            Unit::Balance => EconomicsError::Amount { name, range: "a finite amount", value },
        })
    }

    /// The prices for one customer, compared with leaving them alone.
    ///
    /// For an offer that keeps customers: a leaver brings
    /// `save_rate × (value_kept − offer_cost) − contact_cost`, a stayer costs
    /// `stayers_take × offer_cost + contact_cost`.
    pub fn prices(&self) -> Prices {
        match self {
            Self::Churn(a) => Prices {
                act_event: a.save_rate * (a.value_kept - a.offer_cost) - a.contact_cost,
                act_other: -(a.stayers_take * a.offer_cost) - a.contact_cost,
            },
            Self::Plain(a) => Prices { act_event: a.act_event - a.leave_event, act_other: a.act_other - a.leave_other },
        }
    }
}

impl Prices {
    /// What acting on `acted` customers brings, `events` of whom have the event.
    pub fn profit(&self, acted: f64, events: f64) -> f64 {
        self.act_event * events + self.act_other * (acted - events)
    }

    /// The probability from which acting pays; none if it always or never does.
    pub fn break_even(&self) -> Option<f64> {
        let spread = self.act_event - self.act_other;
        let p = -self.act_other / spread;
        (spread > 0.0 && (0.0..=1.0).contains(&p)).then_some(p)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_offer_is_priced_for_leavers_and_for_stayers() {
        let economics = Economics::Churn(ChurnAmounts {
            value_kept: 212.0,
            save_rate: 0.25,
            offer_cost: 29.0,
            stayers_take: 0.32,
            contact_cost: 2.4,
        });
        let prices = economics.prices();
        assert!((prices.act_event - 43.35).abs() < 1e-12);
        assert!((prices.act_other + 11.68).abs() < 1e-12);
        let p = prices.break_even().expect("between the two");
        assert!(prices.profit(1.0, p).abs() < 1e-12, "at break-even acting brings nothing");
    }

    #[test]
    fn impossible_amounts_are_named() {
        let amounts =
            ChurnAmounts { value_kept: 1.0, save_rate: 1.2, offer_cost: 1.0, stayers_take: 0.0, contact_cost: 0.0 };
        let error = Economics::Churn(amounts).check().expect_err("over 100 %").to_string();
        assert!(error.contains("The offer keeps a leaver") && error.contains("120"), "{error}");
        let amounts = ChurnAmounts { save_rate: f64::NAN, ..amounts };
        assert!(Economics::Churn(amounts).check().is_err());
    }
}
