//! A candidate comes into being together with the job that fits it: neither is ever there alone.

use pronoia_core::model::Recipe;
use pronoia_core::study::Basis;
use pronoia_core::tune::Ended;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, QuerySelect,
};

use crate::entity::{model, search, study};
use crate::jobs::{Work, put};
use crate::{Result, Store};

/// A candidate that is to be fitted.
#[derive(Debug, Clone)]
pub struct NewFit<'a> {
    /// Its name in the study; where another candidate has that, a number is put after it.
    pub name: &'a str,
    /// How it is made.
    pub recipe: &'a Recipe,
    /// What it is fitted on.
    pub basis: &'a Basis,
    /// What is drawn by lot follows from it.
    pub seed: u64,
}

impl Store {
    /// Puts a fit in the queue; its candidate and its job. With `instead_of`, that one is
    /// retired for it.
    ///
    /// # Errors
    /// [`StoreError::Refused`](crate::StoreError::Refused) if the workspace has too much waiting.
    pub async fn queue_fit(
        &self,
        study: &study::Model,
        fit: &NewFit<'_>,
        instead_of: Option<i64>,
    ) -> Result<(i64, i64)> {
        let transaction = self.writing().await?;
        if let Some(other) = instead_of {
            let retired = model::ActiveModel { id: Set(other), retired: Set(true), ..Default::default() };
            retired.update(&transaction).await?;
        }
        let made = queued(&transaction, study, fit).await?;
        transaction.commit().await?;
        Ok(made)
    }

    /// Writes down that a search is over, and puts the fit of what it found in the queue.
    ///
    /// # Errors
    /// As [`Store::queue_fit`].
    pub async fn set_found(&self, id: i64, ended: Ended, study: &study::Model, fit: &NewFit<'_>) -> Result<()> {
        let transaction = self.writing().await?;
        let found = search::ActiveModel {
            id: Set(id),
            state: Set("done".into()),
            ended: Set(serde_json::to_value(ended)?.as_str().map(str::to_owned)),
            model_id: Set(Some(queued(&transaction, study, fit).await?.0)),
            ..Default::default()
        };
        found.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }
}

/// The candidate that was put in the queue, and its job.
async fn queued(db: &impl ConnectionTrait, study: &study::Model, fit: &NewFit<'_>) -> Result<(i64, i64)> {
    let on_list = model::Entity::find()
        .select_only()
        .column(model::Column::Name)
        .filter(model::Column::StudyId.eq(study.id))
        .filter(model::Column::Retired.eq(false));
    let taken: Vec<String> = on_list.into_tuple().all(db).await?;
    let (mut name, mut number) = (fit.name.to_owned(), 1);
    while taken.contains(&name) {
        number += 1;
        name = format!("{} {number}", fit.name);
    }
    let row = model::ActiveModel {
        study_id: Set(study.id),
        name: Set(name.clone()),
        settings: Set(serde_json::to_value(fit.recipe)?),
        basis: Set(serde_json::to_value(fit.basis)?),
        seed: Set(fit.seed as i64),
        state: Set("queued".into()),
        ..Default::default()
    };
    let id = row.insert(db).await?.id;
    let title = format!("Fitting {}", name.to_lowercase());
    let job = put(db, study.workspace_id, Some(study.id), &title, &Work::Fit { model: id }).await?;
    Ok((id, job))
}
