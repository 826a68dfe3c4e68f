//! A policy as somebody typed it; what is absent comes from the one kept, or from sound beginnings.

use std::collections::BTreeMap;

use pronoia_core::decide::{
    Amount, AmountError, Assumption, AssumptionUnit, CutOff, Economics, EventRate, Offer, Offers, Order, Population,
    Rule,
};
use pronoia_core::expression::Type;
use pronoia_core::number::THIN;
use pronoia_core::question::Question;
use pronoia_core::study::ChosenPolicy;
use serde::Deserialize;

use crate::error::ServiceError;
use crate::text;

/// The most letters of what money is counted in.
const LONGEST_CURRENCY: usize = 8;

/// Fields by name.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(transparent)]
pub struct TypedFields(BTreeMap<String, String>);

impl<const N: usize> From<[(&str, &str); N]> for TypedFields {
    fn from(fields: [(&str, &str); N]) -> Self {
        Self(fields.into_iter().map(|(name, value)| (name.to_owned(), value.to_owned())).collect())
    }
}

impl TypedFields {
    /// What stands in a field, without blanks around it; none if the form did not have it.
    pub fn field(&self, name: &str) -> Option<&str> {
        self.0.get(name).map(|value| value.trim())
    }

    /// A field in which something stands.
    pub fn filled(&self, name: &str) -> Option<&str> {
        self.field(name).filter(|value| !value.is_empty())
    }

    fn number(&self, name: &str) -> Result<Option<f64>, ServiceError> {
        self.filled(name).map(number).transpose()
    }

    /// A number of fields.
    pub fn count(&self, name: &str) -> Result<Option<usize>, ServiceError> {
        Ok(self.number(name)?.map(|count| count.max(0.0) as usize))
    }

    /// The candidate that was asked for.
    pub fn model(&self) -> Result<Option<i64>, ServiceError> {
        Ok(self.number("model")?.map(|id| id as i64))
    }

    /// The amounts of a question.
    pub fn economics(
        &self,
        question: Question,
        kept: Option<&Economics>,
        columns: &[(String, Type)],
    ) -> Result<Economics, ServiceError> {
        let usual = Economics::usual(question).chosen();
        let same_kind = |kept: &&Economics| std::mem::discriminant(*kept) == std::mem::discriminant(&usual);
        let mut wrong = None;
        let economics = kept.filter(same_kind).unwrap_or(&usual).map(|assumption, there| {
            let Some(text) = self.filled(assumption.word) else { return there.clone() };
            amount(assumption, text, columns).unwrap_or_else(|e| {
                wrong.get_or_insert(e);
                there.clone()
            })
        });
        match wrong {
            Some(wrong) => Err(wrong),
            None => economics.check().map(|()| economics).map_err(|e| ServiceError::Refused(e.to_string())),
        }
    }

    /// Whom the money is for; `judged` is the event rate of the customers judged.
    pub fn population(&self, kept: Option<&ChosenPolicy>, judged: f64) -> Result<Population, ServiceError> {
        let kept = kept.map_or(Population::default(), |chosen| chosen.population);
        let customers = match self.field("population") {
            None => kept.customers,
            Some("") => None,
            Some(text) => Some(customers(text)?),
        };
        let event_rate = match self.field("event_rate") {
            None => kept.event_rate,
            Some("") => None,
            Some(text) => {
                let rate = number(text)? / 100.0;
                if !(rate > 0.0 && rate < 1.0) {
                    return Err(ServiceError::Refused(format!(
                        "An event rate is above 0 and below 100 %; it is {text}. Leave it empty if it is that of the evaluation customers."
                    )));
                }
                Some(EventRate { judged, population: rate })
            }
        };
        Ok(Population { customers, event_rate })
    }

    /// What money is counted in.
    pub fn currency(&self, kept: Option<&ChosenPolicy>) -> Result<String, ServiceError> {
        let Some(text) = self.field("currency") else {
            return Ok(kept.map_or(String::new(), |chosen| chosen.currency.clone()));
        };
        if text.chars().count() > LONGEST_CURRENCY || text.chars().any(|c| c.is_control() || c.is_numeric()) {
            return Err(ServiceError::Refused(format!(
                "A currency is a sign or a code of up to {LONGEST_CURRENCY} letters, such as € or EUR; it is “{text}”."
            )));
        }
        Ok(text.to_owned())
    }

    /// By how much every assumption may be off, as a share of itself.
    pub fn doubt(&self) -> Result<f64, ServiceError> {
        let doubt = self.number("doubt")?.unwrap_or(0.0) / 100.0;
        if (0.0..=1.0).contains(&doubt) {
            return Ok(doubt);
        }
        Err(ServiceError::Refused("Assumptions may be off by 0 to 100 % of themselves.".into()))
    }

    /// Who comes first.
    pub fn order(&self, kept: Option<&Rule>) -> Result<Order, ServiceError> {
        match self.filled("by") {
            None => Ok(kept.map_or(Order::Probability, |rule| rule.by)),
            Some("probability") => Ok(Order::Probability),
            Some("gain") => Ok(Order::Gain),
            Some("gain-per-cost") => Ok(Order::GainPerCost),
            Some(other) => Err(ServiceError::Refused(format!("There is no order “{other}”."))),
        }
    }

    /// The line, if one was typed that belongs to this order.
    pub fn line(&self, by: Order) -> Result<Option<CutOff>, ServiceError> {
        let Some(value) = self.number("line")? else { return Ok(None) };
        let line_as = self.filled("line_as").unwrap_or(key_word(by));
        if [Order::Probability, Order::Gain, Order::GainPerCost].map(key_word).contains(&line_as) {
            // Of another order, it means nothing.
            return if line_as == key_word(by) { least(by, value).map(Some) } else { Ok(None) };
        }
        bound(line_as, value).map(Some)
    }

    /// What holds wherever the line is.
    pub fn limits(&self, kept: Option<&Rule>) -> Result<Vec<CutOff>, ServiceError> {
        let fields = [("most_customers", "count"), ("most_money", "budget"), ("least_precision", "precision")];
        if fields.iter().all(|(field, _)| self.field(field).is_none()) {
            return Ok(kept.map_or(Vec::new(), |rule| rule.limits.clone()));
        }
        let limit = |(field, kind): (&str, &str)| {
            self.number(field).transpose().map(|value| value.and_then(|value| bound(kind, value)))
        };
        fields.into_iter().filter_map(limit).collect()
    }

    /// From which probability on somebody looks: none as long as nobody said, or nowhere.
    pub fn refer_from(&self, kept: Option<&Rule>) -> Result<Option<f64>, ServiceError> {
        match self.field("refer_from") {
            None => Ok(kept.and_then(|rule| rule.refer_from)),
            Some("") => Ok(None),
            Some(text) => match least(Order::Probability, number(text)?)? {
                CutOff::Least(from) => Ok(Some(from)),
                _ => Ok(None),
            },
        }
    }
}

/// The word for a threshold of an order in forms.
pub fn key_word(by: Order) -> &'static str {
    match by {
        Order::Probability => "probability",
        Order::Gain => "gain",
        Order::GainPerCost => "gain-per-cost",
    }
}

/// A line as a form has it: its value, and what that is.
pub fn written(line: CutOff, by: Order) -> (f64, &'static str) {
    match line {
        CutOff::Least(least) if least <= f64::MIN_POSITIVE => (0.0, key_word(by)),
        CutOff::Least(least) if by == Order::Probability => (least.min(1.0), key_word(by)),
        CutOff::Least(least) => (least, key_word(by)),
        CutOff::Customers(n) => (n, "count"),
        CutOff::Share(share) => (share * 100.0, "share"),
        CutOff::Budget(money) => (money, "budget"),
        CutOff::Precision(least) => (least * 100.0, "precision"),
    }
}

fn least(by: Order, value: f64) -> Result<CutOff, ServiceError> {
    match by {
        Order::Probability if !(0.0..=1.0).contains(&value) => {
            Err(ServiceError::Refused(format!("A probability is between 0 and 1; it is {value}.")))
        }
        Order::Probability => Ok(CutOff::Least(value)),
        Order::Gain | Order::GainPerCost => Ok(CutOff::Least(value.max(f64::MIN_POSITIVE))),
    }
}

fn bound(kind: &str, value: f64) -> Result<CutOff, ServiceError> {
    let refused = |sentence: &str| Err(ServiceError::Refused(format!("{sentence}; it is {value}.")));
    match kind {
        "share" if (0.0..=100.0).contains(&value) => Ok(CutOff::Share(value / 100.0)),
        "share" => refused("A share is between 0 and 100 %"),
        "precision" if (0.0..=100.0).contains(&value) => Ok(CutOff::Precision(value / 100.0)),
        "precision" => refused("How many of every 100 have the event is between 0 and 100"),
        "count" if value >= 0.0 => Ok(CutOff::Customers(value)),
        "count" => refused("A number of customers is 0 or more"),
        "budget" if value >= 0.0 => Ok(CutOff::Budget(value)),
        "budget" => refused("A budget is 0 or more"),
        other => Err(ServiceError::Refused(format!("A cut-off cannot be given as “{other}”."))),
    }
}

/// An amount as typed: chances as per cent, unless they are worked out.
pub fn amount(assumption: &Assumption, typed: &str, columns: &[(String, Type)]) -> Result<Amount, ServiceError> {
    let amount = Amount::typed(&plain(typed), columns).map_err(|e| {
        let place = match &e {
            AmountError::Expression(wrong) => {
                let word: String = typed.chars().skip(wrong.from).take(wrong.to - wrong.from).collect();
                if word.is_empty() || word == typed { String::new() } else { format!(" (at “{word}”)") }
            }
            AmountError::Customers(_) => String::new(),
        };
        ServiceError::Refused(format!("“{}”: {e}{place}", assumption.name))
    })?;
    Ok(match (amount, assumption.unit) {
        (Amount::Same(value), AssumptionUnit::Chance | AssumptionUnit::Rate) => Amount::Same(value / 100.0),
        (amount, _) => amount,
    })
}

/// Without the thin spaces that Pronoia itself writes between thousands.
fn plain(text: &str) -> String {
    text.chars().filter(|c| *c != THIN).collect()
}

fn number(text: &str) -> Result<f64, ServiceError> {
    let figures: String = plain(text).chars().filter(|c| !c.is_whitespace()).collect();
    let value = text::typed_number(&figures.replace('−', "-")).map_err(ServiceError::Refused)?;
    if value.is_finite() { Ok(value) } else { Err(ServiceError::Refused(format!("“{text}” is not a number."))) }
}

fn customers(text: &str) -> Result<f64, ServiceError> {
    number(text).ok().filter(|n| *n >= 1.0 && *n <= 1e10).ok_or_else(|| {
        ServiceError::Refused(format!(
            "“{text}” is not a number of customers. Write a whole number of 1 or more, or leave it empty."
        ))
    })
}

/// The most offers that a form has fields for.
const MOST_FIELDS: usize = 16;

/// The name of a field of an offer beside the first.
pub fn field_of(at: usize, word: &str) -> String {
    format!("offer{at}_{word}")
}

impl TypedFields {
    /// What can be offered; what was kept, where the form did not have it.
    pub fn offers(
        &self,
        economics: &Economics,
        kept: Option<&Offers>,
        columns: &[(String, Type)],
    ) -> Result<Offers, ServiceError> {
        let assumptions = economics.amounts_of_offers();
        let Some(fields) = self.count("offers")? else {
            let suits = |kept: &&Offers| kept.check(economics).is_ok();
            return Ok(kept.filter(suits).cloned().unwrap_or_default());
        };
        let first = self.field("offer_name").unwrap_or_default().to_owned();
        let mut offers = Offers { first, others: Vec::new() };
        for at in 2..2 + fields.min(MOST_FIELDS) {
            let mut amounts = BTreeMap::new();
            for assumption in &assumptions {
                let Some(text) = self.filled(&field_of(at, assumption.word)) else { continue };
                amounts.insert(assumption.word.to_owned(), amount(assumption, text, columns)?);
            }
            match self.filled(&field_of(at, "name")) {
                _ if self.filled(&field_of(at, "out")).is_some() => {}
                Some(name) => offers.others.push(Offer { name: name.to_owned(), amounts }),
                None if amounts.is_empty() => {}
                None => {
                    return Err(ServiceError::Refused(format!(
                        "Offer {at} has amounts, but no name. Give it one; lists use it."
                    )));
                }
            }
        }
        offers.check(economics).map_err(|e| ServiceError::Refused(e.to_string()))?;
        Ok(offers)
    }
}
