//! Amounts as a form shows them.

use pronoia_core::decide::{Amount, Assumption, AssumptionUnit};
use pronoia_core::study::ChosenPolicy;
use pronoia_service::text;

use super::sensitivity;

/// A field for an amount.
pub struct AmountField {
    pub field: String,
    pub label: String,
    pub value: String,
    /// What holds where nothing is typed.
    pub placeholder: String,
    /// What a formula comes to on average.
    pub mean: Option<String>,
}

/// The fields of the amounts of a policy's first offer: those that have to be said, or the others.
pub fn fields(chosen: &ChosenPolicy, optional: bool) -> Vec<AmountField> {
    let field = |(assumption, amount): (Assumption, &Amount)| AmountField {
        field: assumption.word.to_owned(),
        label: label(&assumption),
        value: in_field(&assumption, amount),
        placeholder: String::new(),
        mean: mean(&assumption, amount),
    };
    chosen.policy.economics.amounts().into_iter().filter(|a| a.0.optional == optional).map(field).collect()
}

/// What an amount is called beside its field.
pub fn label(assumption: &Assumption) -> String {
    match assumption.unit {
        AssumptionUnit::Chance | AssumptionUnit::Rate => format!("{}, %", assumption.name),
        _ => assumption.name.to_owned(),
    }
}

/// How an amount stands in its field.
pub fn in_field(assumption: &Assumption, amount: &Amount) -> String {
    match (amount, assumption.unit) {
        (Amount::Each(formula), _) => formula.expression.source().to_owned(),
        (Amount::Same(value), AssumptionUnit::Chance | AssumptionUnit::Rate) => text::plain_share(value),
        (Amount::Same(value), _) => format!("{value}"),
    }
}

/// What a formula of an offer comes to on average.
pub fn mean(assumption: &Assumption, amount: &Amount) -> Option<String> {
    amount.formula().map(|formula| sensitivity::written(assumption.unit, formula.mean))
}
