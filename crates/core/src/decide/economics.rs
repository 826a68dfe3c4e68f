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

impl Economics {
    /// Checks every amount.
    ///
    /// # Errors
    /// [`EconomicsError`] for the first that cannot be.
    pub fn check(&self) -> Result<(), EconomicsError> {
        match self {
            Self::Churn(a) => {
                for (name, share) in
                    [("The offer keeps a leaver", a.save_rate), ("Stayers who take it too", a.stayers_take)]
                {
                    if !(0.0..=1.0).contains(&share) {
                        return Err(EconomicsError::Share { name, value: share * 100.0 });
                    }
                }
                for (name, value) in [
                    ("A kept customer brings", a.value_kept),
                    ("The offer, if taken", a.offer_cost),
                    ("Making the offer", a.contact_cost),
                ] {
                    if !(0.0..=1e12).contains(&value) {
                        return Err(EconomicsError::Amount { name, range: "an amount of 0 or more", value });
                    }
                }
            }
            Self::Plain(a) => {
                for (name, value) in [
                    ("Acting, with the event", a.act_event),
                    ("Acting, without", a.act_other),
                    ("Leaving alone, with the event", a.leave_event),
                    ("Leaving alone, without", a.leave_other),
                ] {
                    if !(-1e12..=1e12).contains(&value) {
                        return Err(EconomicsError::Amount { name, range: "a finite amount", value });
                    }
                }
            }
        }
        Ok(())
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
