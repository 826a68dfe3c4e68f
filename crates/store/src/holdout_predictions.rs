//! What models said row by row of the customers that they are judged on.

use std::collections::HashMap;

use pronoia_core::EvaluatedModel;
use sea_orm::{ActiveValue::Set, EntityTrait};

use crate::entity::judgement;
use crate::{Result, Store, StoreError};

/// What two models said of the same rows.
#[derive(Debug, Clone, PartialEq)]
pub struct PairedPredictions {
    /// Probabilities by the first.
    pub first: Vec<f64>,
    /// Probabilities by the second.
    pub second: Vec<f64>,
    /// What happened.
    pub event: Vec<bool>,
}

impl Store {
    /// What two models said of the rows that both are judged on; none if one
    /// of them is not judged, or there are no such rows.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub async fn paired(&self, first: i64, second: i64) -> Result<Option<PairedPredictions>> {
        let (Some(a), Some(b)) = (self.judgement(first).await?, self.judgement(second).await?) else {
            return Ok(None);
        };
        let place: HashMap<u32, usize> = b.positions.iter().enumerate().map(|(at, row)| (*row, at)).collect();
        let mut paired = PairedPredictions { first: vec![], second: vec![], event: vec![] };
        for (at, row) in a.positions.iter().enumerate() {
            // Judged on another outcome, the same row is not the same case.
            if let Some(&other) = place.get(row).filter(|&&other| a.event[at] == b.event[other]) {
                paired.first.push(a.probability[at]);
                paired.second.push(b.probability[other]);
                paired.event.push(a.event[at]);
            }
        }
        Ok((!paired.event.is_empty()).then_some(paired))
    }

    /// What a model said of the rows that it is judged on; none if it is not.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub async fn judgement(&self, model: i64) -> Result<Option<Judgement>> {
        let row = judgement::Entity::find_by_id(model).one(&self.db).await?;
        row.map(Judgement::read).transpose()
    }
}

/// What a model said of some rows.
#[derive(Debug, Clone, PartialEq)]
pub struct Judgement {
    /// Places of the rows in their table.
    pub positions: Vec<u32>,
    /// Probabilities.
    pub probability: Vec<f64>,
    /// What happened.
    pub event: Vec<bool>,
}

impl Judgement {
    fn read(row: judgement::Model) -> Result<Self> {
        let read = Self {
            positions: row.positions.as_chunks().0.iter().map(|b| u32::from_le_bytes(*b)).collect(),
            probability: row.probabilities.as_chunks().0.iter().map(|b| f64::from_le_bytes(*b)).collect(),
            event: row.events.iter().map(|b| *b != 0).collect(),
        };
        if read.positions.len() == read.probability.len() && read.positions.len() == read.event.len() {
            Ok(read)
        } else {
            Err(StoreError::Damaged("the predictions of a model for its rows are cut short".into()))
        }
    }
}

/// The stored form of what a model said.
pub(crate) fn stored(model: i64, judged: &EvaluatedModel) -> judgement::ActiveModel {
    judgement::ActiveModel {
        model_id: Set(model),
        positions: Set(judged.rows.iter().flat_map(|&row| (row as u32).to_le_bytes()).collect()),
        probabilities: Set(judged.probability.iter().flat_map(|p| p.to_le_bytes()).collect()),
        events: Set(judged.event.iter().map(|&e| u8::from(e)).collect()),
    }
}
