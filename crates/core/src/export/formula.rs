//! A model as definitions over the columns of a customer.

use super::definitions::{Definition, Definitions, Is, WeightedSum};
use super::refusal::Refusal;
use super::{calibration, families};
use crate::model::Model;
use pronoia_data::Kind;
use pronoia_data::expression::Type;

/// A model as definitions, each of columns and of definitions before it.
#[derive(Debug, Clone)]
pub struct ModelFormula {
    /// The columns of the customer that it reads; they have the first places.
    pub(super) inputs: Vec<(String, Kind)>,
    /// The definitions in order; they have the places after those of the inputs.
    pub(super) definitions: Vec<Definition>,
    /// Place of the log-odds that hold.
    pub(super) log_odds: usize,
    /// Place of the probability.
    pub(super) probability: usize,
    /// The column that says what happened, and what of it is the event.
    pub(super) outcome: [String; 2],
    /// Seed, version and fingerprint of the model.
    pub(super) provenance: Provenance,
}

/// Where a formula comes from.
#[derive(Debug, Clone)]
pub(super) struct Provenance {
    /// What the model is called.
    pub name: String,
    /// The version of the program that fitted it.
    pub version: String,
    /// Rows fitted to.
    pub rows: u64,
    /// Events among them.
    pub events: u64,
    /// Digest of what was read of those rows.
    pub fingerprint: String,
}

impl ModelFormula {
    /// The definitions of a model.
    ///
    /// # Errors
    /// [`Refusal`] if its family or a step cannot be written as definitions.
    pub fn of(model: &Model) -> Result<Self, Refusal> {
        let mut made = Definitions::of(model.inputs().map(|input| (input.name.clone(), input.kind)));
        let mut told = Vec::new();
        for member in &model.members {
            let score = families::score(&mut made, member)?;
            told.push(match &member.calibration {
                Some(map) => calibration::calibrated(&mut made, map, score),
                None => score,
            });
        }
        let log_odds = match (&model.blended, &told[..]) {
            (Some(blended), members) => {
                let terms = members.iter().copied().zip(blended.shares.iter().copied()).collect();
                made.define("blend", Type::Number, Is::Sum(WeightedSum::plain(blended.intercept, terms)))
            }
            (None, told) => told.first().copied().unwrap_or_default(),
        };
        let probability = calibration::probability(&mut made, log_odds);
        let family = model.members.first().map_or("", |member| member.settings.name());
        let name = if model.blended.is_some() { "Ensemble" } else { family };
        let (inputs, definitions) = made.finish();
        Ok(Self {
            inputs,
            definitions,
            log_odds,
            probability,
            outcome: [model.outcome.column.clone(), model.outcome.event.words()],
            provenance: Provenance {
                name: name.to_owned(),
                version: model.version.clone(),
                rows: model.rows,
                events: model.events,
                fingerprint: model.fingerprint.clone(),
            },
        })
    }

    /// Leaves of all trees.
    pub(super) fn leaves(&self) -> usize {
        let of = |definition: &Definition| match &definition.is {
            Is::Trees(trees) => trees.trees.iter().map(|tree| tree.leaves()).sum(),
            _ => 0,
        };
        self.definitions.iter().map(of).sum()
    }

    /// What is defined at a place; none for the places of inputs.
    pub(super) fn at(&self, place: usize) -> Option<&Definition> {
        self.definitions.get(place.checked_sub(self.inputs.len())?)
    }

    /// The name of an input or a definition.
    pub(super) fn name_at(&self, place: usize) -> &str {
        match self.at(place) {
            Some(definition) => &definition.name,
            None => &self.inputs[place].0,
        }
    }

    /// The type of an input or a definition.
    pub(super) fn type_at(&self, place: usize) -> Type {
        self.at(place).map_or_else(|| Type::of(self.inputs[place].1), |definition| definition.kind)
    }
}
