//! Lists of customers to be scored.

use pronoia_core::score::MatchReport;
use pronoia_core::study::ChosenPolicy;
use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};

use crate::entity::list;
use crate::{Result, Store, StoreError};

impl Store {
    /// Remembers a list that was matched to a model.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn add_list(
        &self,
        study_id: i64,
        table_id: i64,
        chosen: &ChosenPolicy,
        report: &MatchReport,
    ) -> Result<i64> {
        let row = list::ActiveModel {
            study_id: Set(study_id),
            table_id: Set(table_id),
            model_id: Set(chosen.model_id),
            policy: Set(serde_json::to_value(chosen)?),
            report: Set(serde_json::to_value(report)?),
            state: Set("matched".into()),
            ..Default::default()
        };
        Ok(row.insert(&self.db).await?.id)
    }

    /// The lists of a study, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn lists(&self, study_id: i64) -> Result<Vec<list::Model>> {
        Ok(list::Entity::find()
            .filter(list::Column::StudyId.eq(study_id))
            .order_by_desc(list::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// A list.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn list(&self, id: i64) -> Result<list::Model> {
        list::Entity::find_by_id(id).one(&self.db).await?.ok_or(StoreError::NotFound("This list"))
    }

    /// Writes down how far the scoring is.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_list_state(&self, id: i64, state: &str) -> Result<()> {
        list::ActiveModel { id: Set(id), state: Set(state.into()), ..Default::default() }.update(&self.db).await?;
        Ok(())
    }
}

impl list::Model {
    /// How the list fits the model.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn matched(&self) -> Result<MatchReport> {
        Ok(serde_json::from_value(self.report.clone())?)
    }

    /// The policy that it is decided on by.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn decided_by(&self) -> Result<ChosenPolicy> {
        Ok(serde_json::from_value(self.policy.clone())?)
    }
}
