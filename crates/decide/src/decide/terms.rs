//! The amounts of each kind of question, and what they make of a customer.

use serde::{Deserialize, Serialize};

use super::assumption::{Assumption, AssumptionUnit};
use super::payoff::{Payoff, Payoffs};

/// Amounts of an offer that is meant to keep customers.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Churn<A> {
    /// What a kept customer brings in a year.
    pub value_kept: A,
    /// For how many years.
    pub years: A,
    /// By what share a year's money is worth less than the year's before.
    pub discount: A,
    /// Chance that the offer keeps a customer who would leave.
    pub save_rate: A,
    /// Cost of the offer when it is taken.
    pub offer_cost: A,
    /// Chance that a customer who would stay takes it too.
    pub stayers_take: A,
    /// Cost of making the offer to one customer.
    pub contact_cost: A,
}

/// Amounts of lending.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Credit<A> {
    /// What an agreement that is paid back earns in a year.
    pub margin: A,
    /// For how many years.
    pub years: A,
    /// By what share a year's money is worth less than the year's before.
    pub discount: A,
    /// What is owed when one goes bad.
    pub exposure: A,
    /// The share of that which is lost.
    pub loss_rate: A,
    /// Cost of having somebody look at an application.
    pub review_cost: A,
    /// Chance that the look finds out one that would go bad.
    pub review_finds: A,
    /// Chance that it turns away one that would be paid back.
    pub review_stops: A,
}

/// Amounts of a campaign.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(bound(deserialize = "A: Deserialize<'de> + From<f64>"))]
pub struct ResponseTerms<A> {
    /// What a response brings.
    pub margin: A,
    /// Share of those who respond who would have bought without the contact.
    pub anyway: A,
    /// Share of those who answer the contact that the records are of who answer this one too.
    #[serde(default = "everybody")]
    pub reach: A,
    /// What each response is given.
    pub incentive: A,
    /// Cost of one contact.
    pub contact_cost: A,
}

/// A plain table of money.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct PayoffTable<A> {
    /// Acting on a customer with the event.
    pub act_event: A,
    /// Acting on one without.
    pub act_other: A,
    /// Leaving alone one with the event.
    pub leave_event: A,
    /// Leaving alone one without.
    pub leave_other: A,
}

impl<A> Churn<A> {
    pub(super) const ASSUMPTIONS: [Assumption; 7] = [
        Assumption::of("value_kept", "Customer margin a year", AssumptionUnit::Amount, 150.0),
        Assumption::usually("years", "Horizon, years", AssumptionUnit::Years, 1.0),
        Assumption::usually("discount", "Yearly discount", AssumptionUnit::Rate, 0.0),
        Assumption::of("save_rate", "Save rate", AssumptionUnit::Chance, 0.25).of_offer(),
        Assumption::of("offer_cost", "Cost of the offer, if taken", AssumptionUnit::Amount, 25.0).of_offer(),
        Assumption::of("stayers_take", "Take-up by stayers", AssumptionUnit::Chance, 0.3).of_offer(),
        Assumption::of("contact_cost", "Cost of contact", AssumptionUnit::Amount, 2.0).of_offer(),
    ];

    pub(super) fn amounts(&self) -> [&A; 7] {
        let Self { value_kept, years, discount, save_rate, offer_cost, stayers_take, contact_cost } = self;
        [value_kept, years, discount, save_rate, offer_cost, stayers_take, contact_cost]
    }

    pub(super) fn of(amounts: [A; 7]) -> Self {
        let [value_kept, years, discount, save_rate, offer_cost, stayers_take, contact_cost] = amounts;
        Self { value_kept, years, discount, save_rate, offer_cost, stayers_take, contact_cost }
    }
}

impl<A> Credit<A> {
    pub(super) const ASSUMPTIONS: [Assumption; 8] = [
        Assumption::of("margin", "Agreement margin a year", AssumptionUnit::Amount, 90.0),
        Assumption::usually("years", "Horizon, years", AssumptionUnit::Years, 1.0),
        Assumption::usually("discount", "Yearly discount", AssumptionUnit::Rate, 0.0),
        Assumption::of("exposure", "Exposure at default", AssumptionUnit::Amount, 600.0),
        Assumption::of("loss_rate", "Loss given default", AssumptionUnit::Chance, 0.6),
        Assumption::usually("review_cost", "Cost of manual review", AssumptionUnit::Amount, 12.0),
        Assumption::usually("review_finds", "Review detects bad", AssumptionUnit::Chance, 0.6),
        Assumption::usually("review_stops", "Review declines good", AssumptionUnit::Chance, 0.1),
    ];

    pub(super) fn amounts(&self) -> [&A; 8] {
        let Self { margin, years, discount, exposure, loss_rate, review_cost, review_finds, review_stops } = self;
        [margin, years, discount, exposure, loss_rate, review_cost, review_finds, review_stops]
    }

    pub(super) fn of(amounts: [A; 8]) -> Self {
        let [margin, years, discount, exposure, loss_rate, review_cost, review_finds, review_stops] = amounts;
        Self { margin, years, discount, exposure, loss_rate, review_cost, review_finds, review_stops }
    }
}

impl<A> ResponseTerms<A> {
    pub(super) const ASSUMPTIONS: [Assumption; 5] = [
        Assumption::of("margin", "Margin of a response", AssumptionUnit::Amount, 40.0),
        Assumption::usually("anyway", "Would buy anyway", AssumptionUnit::Chance, 0.1),
        Assumption::usually("reach", "Response rate to this contact", AssumptionUnit::Chance, 1.0).of_offer(),
        Assumption::usually("incentive", "Cost per response", AssumptionUnit::Amount, 0.0).of_offer(),
        Assumption::of("contact_cost", "Cost of contact", AssumptionUnit::Amount, 1.5).of_offer(),
    ];

    pub(super) fn amounts(&self) -> [&A; 5] {
        let Self { margin, anyway, reach, incentive, contact_cost } = self;
        [margin, anyway, reach, incentive, contact_cost]
    }

    pub(super) fn of(amounts: [A; 5]) -> Self {
        let [margin, anyway, reach, incentive, contact_cost] = amounts;
        Self { margin, anyway, reach, incentive, contact_cost }
    }
}

impl<A> PayoffTable<A> {
    pub(super) const ASSUMPTIONS: [Assumption; 4] = [
        Assumption::of("act_event", "Acting, with the event", AssumptionUnit::Balance, 20.0).of_offer(),
        Assumption::of("act_other", "Acting, without", AssumptionUnit::Balance, -2.0).of_offer(),
        Assumption::usually("leave_event", "Not acting, with the event", AssumptionUnit::Balance, 0.0),
        Assumption::usually("leave_other", "Not acting, without", AssumptionUnit::Balance, 0.0),
    ];

    pub(super) fn amounts(&self) -> [&A; 4] {
        let Self { act_event, act_other, leave_event, leave_other } = self;
        [act_event, act_other, leave_event, leave_other]
    }

    pub(super) fn of(amounts: [A; 4]) -> Self {
        let [act_event, act_other, leave_event, leave_other] = amounts;
        Self { act_event, act_other, leave_event, leave_other }
    }
}

impl Churn<f64> {
    /// What a kept customer brings in all, in today's money.
    pub fn value(&self) -> f64 {
        self.value_kept * annuity(self.years, self.discount)
    }

    /// Counted from nothing being done: a leaver brings
    /// `save_rate × (value − offer_cost) − contact_cost`, a stayer costs
    /// `stayers_take × offer_cost + contact_cost`.
    pub(super) fn payoffs(&self) -> Payoffs {
        let spent = Payoff {
            event: self.save_rate * self.offer_cost + self.contact_cost,
            other: self.stayers_take * self.offer_cost + self.contact_cost,
        };
        Payoffs {
            act: Payoff { event: self.save_rate * self.value() - spent.event, other: -spent.other },
            spent,
            ..Payoffs::default()
        }
    }
}

impl Credit<f64> {
    /// What an agreement that is paid back earns in all, in today's money.
    pub fn earned(&self) -> f64 {
        self.margin * annuity(self.years, self.discount)
    }

    /// What one that goes bad loses.
    pub fn lost(&self) -> f64 {
        self.exposure * self.loss_rate
    }

    /// Counted from nothing being lent: a good agreement earns its margin, a bad one loses
    /// `exposure × loss_rate`; acting declines, which is worth nothing; somebody who looks lets
    /// through what they do not find out or turn away.
    pub(super) fn payoffs(&self) -> Payoffs {
        Payoffs {
            leave: Payoff { event: -self.lost(), other: self.earned() },
            act: Payoff::default(),
            refer: Some(Payoff {
                event: -(1.0 - self.review_finds) * self.lost() - self.review_cost,
                other: (1.0 - self.review_stops) * self.earned() - self.review_cost,
            }),
            spent: Payoff::default(),
        }
    }
}

impl ResponseTerms<f64> {
    /// Counted from nothing being bought: without a contact, or with one that does not reach them, a
    /// share of those who would respond buys all the same.
    pub(super) fn payoffs(&self) -> Payoffs {
        let anyway = self.anyway * self.margin;
        let given = self.reach * self.incentive;
        Payoffs {
            leave: Payoff { event: anyway, other: 0.0 },
            act: Payoff {
                event: self.reach * self.margin + (1.0 - self.reach) * anyway - given - self.contact_cost,
                other: -self.contact_cost,
            },
            refer: None,
            spent: Payoff { event: given + self.contact_cost, other: self.contact_cost },
        }
    }
}

impl PayoffTable<f64> {
    pub(super) fn payoffs(&self) -> Payoffs {
        let act = Payoff { event: self.act_event, other: self.act_other };
        Payoffs {
            leave: Payoff { event: self.leave_event, other: self.leave_other },
            act,
            refer: None,
            // Whatever acting loses has to be found somewhere.
            spent: Payoff { event: (-act.event).max(0.0), other: (-act.other).max(0.0) },
        }
    }
}

/// Until somebody says otherwise, a contact is as good as the one that the records are of.
fn everybody<A: From<f64>>() -> A {
    A::from(1.0)
}

/// What 1 a year for so many years is worth today, paid at the end of each year:
/// `(1 − (1 + discount)^−years) / discount`.
fn annuity(years: f64, discount: f64) -> f64 {
    if discount == 0.0 { years } else { -(-years * discount.ln_1p()).exp_m1() / discount }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn near(a: f64, b: f64) {
        assert!((a - b).abs() < 1e-12 * (1.0 + b.abs()), "{a}, {b}");
    }

    #[test]
    fn money_of_later_years_is_worth_less() {
        near(annuity(3.0, 0.0), 3.0);
        near(annuity(3.0, 0.1), 1.0 / 1.1 + 1.0 / 1.21 + 1.0 / 1.331);
        near(annuity(1.0, 1e-14), 1.0);
    }

    #[test]
    fn an_offer_is_priced_for_leavers_and_for_stayers() {
        let churn = Churn {
            value_kept: 106.0,
            years: 2.0,
            discount: 0.0,
            save_rate: 0.25,
            offer_cost: 29.0,
            stayers_take: 0.32,
            contact_cost: 2.4,
        };
        let payoffs = churn.payoffs();
        near(payoffs.act.event, 0.25 * (212.0 - 29.0) - 2.4);
        near(payoffs.act.other, -11.68);
        near(payoffs.spent.expected(0.5), 0.5 * (0.25 + 0.32) * 29.0 + 2.4);
        let p = payoffs.gain().break_even().expect("between the two");
        near(payoffs.gain().expected(p), 0.0);
    }

    #[test]
    fn approving_everybody_is_not_worth_nothing() {
        let credit = Credit {
            margin: 90.0,
            years: 1.0,
            discount: 0.0,
            exposure: 600.0,
            loss_rate: 0.6,
            review_cost: 12.0,
            review_finds: 0.75,
            review_stops: 0.1,
        };
        let payoffs = credit.payoffs();
        assert_eq!((payoffs.act.event, payoffs.act.other), (0.0, 0.0), "declined, nothing is lent");
        near(payoffs.leave.expected(0.1), 0.9 * 90.0 - 0.1 * 360.0);
        near(payoffs.gain().break_even().expect("a cut-off"), 90.0 / 450.0);
        near(payoffs.refer.expect("a look").event, -0.25 * 360.0 - 12.0);
        near(payoffs.refer.expect("a look").other, 0.9 * 90.0 - 12.0);
        // A look is worth its price where what it finds outweighs what it turns away.
        let gain = payoffs.gain_of_referring().expect("a look");
        near(gain.event, 0.75 * 360.0 - 12.0);
        near(gain.other, -0.1 * 90.0 - 12.0);
    }

    #[test]
    fn those_who_would_buy_without_a_contact_are_not_won_by_it() {
        let response = ResponseTerms { margin: 40.0, anyway: 0.25, reach: 1.0, incentive: 5.0, contact_cost: 1.5 };
        let payoffs = response.payoffs();
        near(payoffs.leave.expected(0.2), 0.2 * 0.25 * 40.0);
        near(payoffs.gain().event, 0.75 * 40.0 - 5.0 - 1.5);
        near(payoffs.gain().other, -1.5);
        // Of those whom another contact does not reach, some buy all the same.
        let post = ResponseTerms { reach: 0.4, contact_cost: 0.1, ..response }.payoffs();
        near(post.gain().event, 0.4 * (0.75 * 40.0 - 5.0) - 0.1);
        near(post.spent.event, 0.4 * 5.0 + 0.1);
    }
}
