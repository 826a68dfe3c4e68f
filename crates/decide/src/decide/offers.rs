//! Several things that can be offered, each customer the one that suits them best.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::amount::{Amount, AmountValues};
use super::assumption::Assumption;
use super::economics::{Economics, EconomicsError};
use super::payoff::Payoffs;
use super::rule::Order;
use pronoia_data::Table;

/// The most offers that a policy chooses between.
const MOST: usize = 8;

/// The most letters of an offer's name.
const LONGEST_NAME: usize = 40;

/// What can be offered: the offer that the economics of a policy describe, and others that differ
/// from it in some amounts.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Offers {
    /// The name of the first; empty where nobody gave it one.
    #[serde(default)]
    pub first: String,
    /// The others.
    #[serde(default)]
    pub others: Vec<Offer>,
}

/// An offer beside the first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Offer {
    /// Its name, as lists have it.
    pub name: String,
    /// The amounts in which it differs from the first, by their words.
    pub amounts: BTreeMap<String, Amount>,
}

/// Amounts of some customers, for every offer that can be made to them.
#[derive(Debug, Clone, PartialEq)]
pub struct OfferAmounts(Vec<Economics<AmountValues>>);

/// Amounts of some customers, each of whom is given one offer.
#[derive(Debug, Clone, PartialEq)]
pub struct Given {
    offered: OfferAmounts,
    /// Which, by customer; nothing where there is but one.
    which: Vec<u8>,
}

impl Offers {
    /// Whether there is but one, so that there is nothing to choose.
    pub fn is_single(&self) -> bool {
        self.others.is_empty()
    }

    /// Their names, in order; one without a name is called by its number.
    pub fn names(&self) -> Vec<String> {
        let all = std::iter::once(&self.first).chain(self.others.iter().map(|offer| &offer.name));
        let named = |(at, name): (usize, &String)| match name.as_str() {
            "" => format!("offer {}", at + 1),
            name => name.to_owned(),
        };
        all.enumerate().map(named).collect()
    }

    /// The economics of each, in order.
    pub fn each(&self, economics: &Economics) -> Vec<Economics> {
        let others = self.others.iter().map(|offer| {
            economics.map(|assumption, first| offer.amounts.get(assumption.word).unwrap_or(first).clone())
        });
        std::iter::once(economics.clone()).chain(others).collect()
    }

    /// Checks names, and every amount that is the same for everybody.
    ///
    /// # Errors
    /// [`EconomicsError`] for the first that cannot be.
    pub fn check(&self, economics: &Economics) -> Result<(), EconomicsError> {
        let refused = |why: String| Err(EconomicsError::Offers { why });
        if self.is_single() {
            return Ok(());
        }
        let can_differ = economics.amounts_of_offers();
        if can_differ.is_empty() {
            return refused("An application is approved or declined; there is nothing to choose between.".into());
        }
        if self.others.len() >= MOST {
            return refused(format!("There are {} offers; {MOST} are the most.", self.others.len() + 1));
        }
        let names = self.names();
        for (at, name) in names.iter().enumerate() {
            if name.chars().count() > LONGEST_NAME || name.chars().any(char::is_control) {
                return refused(format!("The name of an offer has up to {LONGEST_NAME} letters; “{name}” does not."));
            }
            if names[..at].iter().any(|before| before.to_lowercase() == name.to_lowercase()) {
                return refused(format!("Two offers are called “{name}”; give each a name of its own."));
            }
        }
        for offer in &self.others {
            let foreign = |word: &&String| !can_differ.iter().any(|assumption| assumption.word == word.as_str());
            if let Some(word) = offer.amounts.keys().find(foreign) {
                return refused(format!(
                    "“{}” cannot differ between offers, as “{word}” of “{}” does.",
                    economics.name_of(word),
                    offer.name
                ));
            }
            let own = economics.map(|assumption, first| offer.amounts.get(assumption.word).unwrap_or(first).clone());
            own.check().map_err(|wrong| wrong.of_offer(&offer.name))?;
        }
        Ok(())
    }

    /// Works out every amount of every offer for rows of a table, writing down in the choice what
    /// formulas come to on average; also for how many rows one of them had no value.
    ///
    /// # Errors
    /// [`EconomicsError`] for the first amount that cannot be, for anybody.
    pub(super) fn worked_out(
        &mut self,
        economics: &mut Economics,
        table: &Table,
        rows: &[usize],
    ) -> Result<(OfferAmounts, u64), EconomicsError> {
        let first = economics.worked_out(table, rows)?;
        let found = self.values(economics, first, |assumption, amount| assumption.worked_out(amount, table, rows))?;
        for (offer, values) in self.others.iter_mut().zip(&found.0.0[1..]) {
            for (word, amount) in &mut offer.amounts {
                values.amount(word).into_iter().for_each(|values| amount.note_mean(values.mean()));
            }
        }
        Ok(found)
    }

    /// Works out every amount of every offer for the rows of a list.
    ///
    /// # Errors
    /// [`EconomicsError`] if one cannot be worked out on this table.
    pub(super) fn applied(&self, economics: &Economics, list: &Table) -> Result<(OfferAmounts, u64), EconomicsError> {
        let first = economics.values(|assumption, amount| assumption.applied(amount, list))?;
        self.values(economics, first, |assumption, amount| assumption.applied(amount, list))
    }

    /// The amounts of all offers, those of the others worked out in some way where they differ from
    /// the first.
    fn values(
        &self,
        economics: &Economics,
        (first, mut lacking): (Economics<AmountValues>, u64),
        of: impl Fn(&Assumption, &Amount) -> Result<(AmountValues, u64), EconomicsError>,
    ) -> Result<(OfferAmounts, u64), EconomicsError> {
        let assumptions: Vec<Assumption> = economics.amounts().into_iter().map(|(assumption, _)| assumption).collect();
        let mut all = vec![first.clone()];
        for offer in &self.others {
            let mut own = first.clone();
            for assumption in &assumptions {
                let Some(amount) = offer.amounts.get(assumption.word) else { continue };
                let (values, without) = of(assumption, amount).map_err(|wrong| wrong.of_offer(&offer.name))?;
                lacking = lacking.max(without);
                own = own.with(assumption.word, values);
            }
            all.push(own);
        }
        Ok((OfferAmounts(all), lacking))
    }
}

impl From<Economics<AmountValues>> for OfferAmounts {
    /// A single offer.
    fn from(amounts: Economics<AmountValues>) -> Self {
        Self(vec![amounts])
    }
}

impl From<Economics<AmountValues>> for Given {
    /// The single offer, for everybody.
    fn from(amounts: Economics<AmountValues>) -> Self {
        Self { offered: amounts.into(), which: Vec::new() }
    }
}

impl OfferAmounts {
    /// How many offers there are.
    pub fn count(&self) -> usize {
        self.0.len()
    }

    /// One of them alone.
    #[must_use]
    pub fn only(&self, offer: usize) -> Self {
        Self(vec![self.0[offer].clone()])
    }

    /// Whether there is one offer, with every amount the same for everybody.
    pub fn is_same_for_all(&self) -> bool {
        self.count() == 1 && self.0[0].is_same_for_all()
    }

    /// The amounts of a customer who is average in every one, with the first offer.
    pub fn typical(&self) -> Economics<f64> {
        self.0[0].typical()
    }

    /// Gives each customer the offer on which acting is expected to gain most at their probability,
    /// or that comes first in the order of a rule that goes by gain per cost; of equal ones the one
    /// that is named first.
    pub fn given(self, by: Order, probability: &[f64]) -> Given {
        let by = if by == Order::Probability { Order::Gain } else { by };
        let which = match self.count() {
            1 => Vec::new(),
            _ => probability.iter().enumerate().map(|(customer, &p)| self.first_by(by, customer, p)).collect(),
        };
        Given { offered: self, which }
    }

    fn first_by(&self, by: Order, customer: usize, probability: f64) -> u8 {
        let (mut first, mut most) = (0, f64::NEG_INFINITY);
        for (offer, amounts) in self.0.iter().enumerate() {
            let key = by.key(probability, &amounts.payoffs_of(customer));
            if key > most {
                (first, most) = (offer as u8, key);
            }
        }
        first
    }
}

impl Given {
    /// All that could be offered.
    pub fn offered(&self) -> &OfferAmounts {
        &self.offered
    }

    /// The offer of one customer, by its place among them.
    pub fn offer_of(&self, customer: usize) -> usize {
        self.which.get(customer).map_or(0, |&offer| usize::from(offer))
    }

    /// What one customer is worth, with their offer.
    pub fn payoffs_of(&self, customer: usize) -> Payoffs {
        self.offered.0[self.offer_of(customer)].payoffs_of(customer)
    }

    /// What customers are worth where amounts of the first offer are on average as given instead:
    /// those that differ by customer do so in proportion, and those of other offers follow. Who is
    /// given which offer stays.
    pub fn under<'a>(&'a self, typical: &Economics<f64>) -> impl Fn(usize) -> Payoffs + Sync + use<'a> {
        let first = &self.offered.0[0];
        let factor = |word: &str| {
            let (values, wanted) = (first.amount(word)?, typical.amount(word)?);
            Some((values.mean(), *wanted))
        };
        let scaled: Vec<Economics<(AmountValues, f64, f64)>> = self
            .offered
            .0
            .iter()
            .map(|amounts| {
                amounts.map(|assumption, values| match factor(assumption.word) {
                    Some((mean, wanted)) if mean != 0.0 => (values.clone(), wanted / mean, 0.0),
                    // Nothing cannot be made more in proportion.
                    Some((_, wanted)) => (values.clone(), 1.0, wanted),
                    None => (values.clone(), 1.0, 0.0),
                })
            })
            .collect();
        move |customer| {
            let amounts = &scaled[self.offer_of(customer)];
            amounts.map(|_, (values, factor, more)| values.of(customer) * factor + more).payoffs()
        }
    }

    /// Whether there is one offer, with every amount the same for everybody.
    pub fn is_same_for_all(&self) -> bool {
        self.offered.is_same_for_all()
    }

    /// The amounts of a customer who is average in every one, with the first offer.
    pub fn typical(&self) -> Economics<f64> {
        self.offered.typical()
    }
}
