//! Searches over families and settings.

use pronoia_core::study::Basis;
use pronoia_core::tune::{Ended, TuningRun};
use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};

use crate::entity::{search, study};
use crate::jobs::{Work, put};
use crate::{Result, Store, StoreError};

impl Store {
    /// Remembers a search that is to be made, and puts it in the queue: both or neither.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the workspace has too much waiting.
    pub async fn queue_search(&self, study: &study::Model, search: &TuningRun, basis: &Basis) -> Result<i64> {
        let transaction = self.writing().await?;
        let row = search::ActiveModel {
            study_id: Set(study.id),
            search: Set(serde_json::to_value(search)?),
            basis: Set(serde_json::to_value(basis)?),
            state: Set("queued".into()),
            ..Default::default()
        };
        let id = row.insert(&transaction).await?.id;
        let work = Work::Search { search: id };
        put(&transaction, study.workspace_id, Some(study.id), "Tuning families and hyperparameters", &work).await?;
        transaction.commit().await?;
        Ok(id)
    }

    /// All searches of a study, the newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn searches(&self, study_id: i64) -> Result<Vec<search::Model>> {
        let of_study = search::Entity::find().filter(search::Column::StudyId.eq(study_id));
        Ok(of_study.order_by_desc(search::Column::Id).all(&self.db).await?)
    }

    /// A search.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn search(&self, id: i64) -> Result<search::Model> {
        search::Entity::find_by_id(id).one(&self.db).await?.ok_or(StoreError::NotFound("This search"))
    }

    /// Keeps what was tried so far, so that a search that is broken off goes on from there.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_tried(&self, id: i64, search: &TuningRun) -> Result<()> {
        let transaction = self.writing().await?;
        let row = search::ActiveModel { id: Set(id), search: Set(serde_json::to_value(search)?), ..Default::default() };
        row.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }

    /// Writes down that a search was stopped or failed; what was tried stays.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_search_state(&self, id: i64, state: &str, error: Option<&str>) -> Result<()> {
        let transaction = self.writing().await?;
        let row = search::ActiveModel {
            id: Set(id),
            state: Set(state.into()),
            error: Set(error.map(str::to_owned)),
            ..Default::default()
        };
        row.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }
}

impl search::Model {
    /// What is searched, and what was tried.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn so_far(&self) -> Result<TuningRun> {
        Ok(serde_json::from_value(self.search.clone())?)
    }

    /// What candidates are fitted on.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn fitted_on(&self) -> Result<Basis> {
        Ok(serde_json::from_value(self.basis.clone())?)
    }

    /// Why it ended.
    pub fn ended(&self) -> Option<Ended> {
        serde_json::from_value(self.ended.clone()?.into()).ok()
    }
}
