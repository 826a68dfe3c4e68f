//! Lists of customers to be scored.

use pronoia_core::score::{ColumnAnswers, Extras, MatchReport};
use pronoia_core::study::ChosenPolicy;
use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};

use crate::entity::list;
use crate::leases::{made_by, made_of};
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
        (report, answers): (&MatchReport, &ColumnAnswers),
    ) -> Result<i64> {
        let row = list::ActiveModel {
            study_id: Set(study_id),
            table_id: Set(table_id),
            model_id: Set(chosen.model_id),
            policy: Set(serde_json::to_value(chosen)?),
            report: Set(serde_json::to_value(report)?),
            answers: Set(serde_json::to_value(answers)?),
            extras: Set(serde_json::to_value(Extras::usual())?),
            state: Set("matched".into()),
            ..Default::default()
        };
        let transaction = self.writing().await?;
        let id = row.insert(&transaction).await?.id;
        if let Some(lease) = self.lease() {
            made_by(&transaction, "list", (id, lease)).await?;
        }
        transaction.commit().await?;
        Ok(id)
    }

    /// The list that the present job made when it was begun before.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn list_of_job(&self) -> Result<Option<i64>> {
        made_of(self, "list").await
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

    /// Writes down how a list fits.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_report(&self, id: i64, report: &MatchReport) -> Result<()> {
        let transaction = self.writing().await?;
        let report = Set(serde_json::to_value(report)?);
        list::ActiveModel { id: Set(id), report, ..Default::default() }.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }

    /// Writes down how far the scoring is.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_list_state(&self, id: i64, state: &str) -> Result<()> {
        let transaction = self.writing().await?;
        list::ActiveModel { id: Set(id), state: Set(state.into()), ..Default::default() }.update(&transaction).await?;
        Ok(transaction.commit().await?)
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

    /// What was said about its columns.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn said(&self) -> Result<ColumnAnswers> {
        Ok(serde_json::from_value(self.answers.clone())?)
    }

    /// What its scored form holds besides.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn held(&self) -> Result<Extras> {
        Ok(serde_json::from_value(self.extras.clone())?)
    }

    /// The policy that it is decided on by.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn decided_by(&self) -> Result<ChosenPolicy> {
        Ok(serde_json::from_value(self.policy.clone())?)
    }
}
