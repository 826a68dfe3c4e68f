//! Several offers: their fields, what each is worth, and how many customers are given it.

use pronoia_core::decide::{Amount, Assumption, Economics, Offer, OutcomeWorth, Policy};
use pronoia_service::decide::policy_evaluation::Situation;
use pronoia_service::decide::policy_form::field_of;
use pronoia_service::text;

use super::amounts::{self, AmountField, mean};

/// The fields of an offer beside the first.
pub struct OfferFields {
    pub at: usize,
    pub name: String,
    pub amounts: Vec<AmountField>,
}

impl OfferFields {
    /// Those of every offer, and an empty one; none where a question has but one.
    pub fn of(policy: &Policy) -> Vec<Self> {
        let assumptions = policy.economics.amounts_of_offers();
        if assumptions.is_empty() {
            return Vec::new();
        }
        let first = |word: &str| policy.economics.amount(word).cloned().unwrap_or(Amount::Same(0.0));
        let fields = |at: usize, offer: Option<&Offer>| {
            let amount = |assumption: &Assumption| {
                let own = offer.and_then(|offer| offer.amounts.get(assumption.word));
                AmountField {
                    field: field_of(at, assumption.word),
                    label: amounts::label(assumption),
                    value: own.map_or(String::new(), |own| amounts::in_field(assumption, own)),
                    placeholder: amounts::in_field(assumption, &first(assumption.word)),
                    mean: own.and_then(|own| mean(assumption, own)),
                }
            };
            OfferFields {
                at,
                name: offer.map_or(String::new(), |offer| offer.name.clone()),
                amounts: assumptions.iter().map(amount).collect(),
            }
        };
        let offers = policy.offers.others.iter().map(Some).chain([None]);
        offers.enumerate().map(|(at, offer)| fields(at + 2, offer)).collect()
    }
}

/// The fields of a policy's amounts, for an address; with one of its offers alone, where that is
/// asked for.
pub fn in_address(policy: &Policy, only: Option<usize>) -> Vec<(String, String)> {
    let mut each = policy.offers.each(&policy.economics);
    let written = |economics: &Economics| -> Vec<(String, String)> {
        let amounts = economics.amounts().into_iter();
        amounts
            .map(|(assumption, amount)| (assumption.word.to_owned(), amounts::in_field(&assumption, amount)))
            .collect()
    };
    if let Some(only) = only.filter(|only| *only < each.len()) {
        let mut fields = written(&each.swap_remove(only));
        fields.push(("offers".into(), "0".into()));
        return fields;
    }
    let mut fields = written(&policy.economics);
    fields.push(("offers".into(), policy.offers.others.len().to_string()));
    fields.push(("offer_name".into(), policy.offers.first.clone()));
    for offer in OfferFields::of(policy).into_iter().filter(|offer| !offer.name.is_empty()) {
        fields.push((field_of(offer.at, "name"), offer.name));
        let own = offer.amounts.into_iter().filter(|amount| !amount.value.is_empty());
        fields.extend(own.map(|amount| (amount.field, amount.value)));
    }
    fields
}

/// What formulas come to on average, by their fields.
pub fn means(policy: &Policy) -> Vec<(String, Option<String>)> {
    let first = policy.economics.amounts().into_iter().map(|(a, amount)| (a.word.to_owned(), mean(&a, amount)));
    let others = OfferFields::of(policy).into_iter().flat_map(|offer| offer.amounts).map(|a| (a.field, a.mean));
    first.chain(others).collect()
}

/// What one thing that may happen is worth.
#[derive(Clone)]
pub struct OutcomeLine {
    /// The offer whose first line it is, where there are several.
    pub offer: Option<OfferHead>,
    pub who: &'static str,
    pub formula: String,
    pub worth: String,
    pub event: Option<bool>,
}

/// What stands above the outcomes of one of several offers.
#[derive(Clone)]
pub struct OfferHead {
    pub at: usize,
    pub name: String,
    /// How many are given it where the line stands.
    pub given: String,
}

impl OutcomeLine {
    fn of(outcome: OutcomeWorth) -> Self {
        Self {
            offer: None,
            who: outcome.who,
            formula: outcome.formula,
            worth: text::signed(outcome.worth),
            event: outcome.event,
        }
    }
}

/// What comes of each offer, and of leaving alone.
pub fn outcomes(situation: &Situation) -> Vec<OutcomeLine> {
    let policy = &situation.chosen.policy;
    let given = given(situation).into_iter().nth(situation.weighing.position);
    let mut lines = Vec::new();
    let mut alone = Vec::new();
    for (at, (name, economics)) in
        policy.offers.names().into_iter().zip(policy.offers.each(&policy.economics)).enumerate()
    {
        let (acting, leaving): (Vec<_>, Vec<_>) =
            economics.typical().outcomes().into_iter().partition(|outcome| outcome.acts);
        let mut own: Vec<OutcomeLine> = acting.into_iter().map(OutcomeLine::of).collect();
        if let (Some(first), Some(given)) = (own.first_mut(), &given) {
            first.offer = Some(OfferHead { at, name, given: text::fixed(given[at], 0) });
        }
        lines.extend(own);
        if at == 0 {
            alone.extend(leaving.into_iter().map(OutcomeLine::of));
        }
    }
    lines.extend(alone);
    lines
}

/// From which probability on each offer pays, in a sentence; the average customer's, where amounts
/// differ between them.
pub fn break_even(policy: &Policy) -> String {
    let each = policy.offers.each(&policy.economics);
    let same_for_all = amounts_are_same_for_all(policy);
    let at = |economics: &Economics| {
        economics.typical().payoffs().gain().break_even().map(|p| pronoia_core::number::fixed(p, 3))
    };
    if policy.offers.is_single() {
        return match (at(&policy.economics), same_for_all) {
            (Some(p), true) => format!("Break-even probability: {p}."),
            (Some(p), false) => {
                format!("Break-even probability with average amounts: {p}; each customer has their own.")
            }
            (None, _) => "At these amounts acting is profitable for everyone or for no one.".into(),
        };
    }
    let said = policy.offers.names().into_iter().zip(&each).map(|(name, economics)| match at(economics) {
        Some(p) => format!("Break-even probability of “{name}”: {p}"),
        None => format!("“{name}” is profitable for everyone or for no one"),
    });
    format!("{}{}.", text::listed(&said.collect::<Vec<_>>()), if same_for_all { "" } else { ", with average amounts" })
}

/// How many customers are given each offer, down to every point of the curve; nothing where there
/// is but one.
pub fn given(situation: &Situation) -> Vec<Vec<f64>> {
    match &situation.detail {
        Some(detail) if !situation.chosen.policy.offers.is_single() => detail.customers().by_offer(&situation.weighing),
        _ => Vec::new(),
    }
}

/// Whether no amount of any offer differs between customers.
pub fn amounts_are_same_for_all(policy: &Policy) -> bool {
    policy.offers.each(&policy.economics).iter().all(|economics| economics.is_same_for_all())
}
