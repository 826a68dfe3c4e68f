//! Lists acted on.

use pronoia_core::campaign::Arms;
use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};

use crate::entity::{campaign, study};
use crate::jobs::{Work, put};
use crate::{Result, Store, StoreError};

impl Store {
    /// Remembers a campaign, and puts in the queue that its arms are drawn: both or neither. The campaign and the job.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the workspace has too much waiting.
    pub async fn queue_campaign(
        &self,
        study: &study::Model,
        list_id: i64,
        name: &str,
        arms: &Arms,
    ) -> Result<(i64, i64)> {
        let transaction = self.writing().await?;
        let row = campaign::ActiveModel {
            study_id: Set(study.id),
            list_id: Set(list_id),
            name: Set(name.into()),
            arms: Set(serde_json::to_value(arms)?),
            ..Default::default()
        };
        let campaign = row.insert(&transaction).await?.id;
        let work = Work::Draw { campaign };
        let job = put(&transaction, study.workspace_id, Some(study.id), "Randomising", &work).await?;
        transaction.commit().await?;
        Ok((campaign, job))
    }

    /// The campaigns of a study, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn campaigns(&self, study_id: i64) -> Result<Vec<campaign::Model>> {
        let of_study = campaign::Entity::find().filter(campaign::Column::StudyId.eq(study_id));
        Ok(of_study.order_by_desc(campaign::Column::Id).all(&self.db).await?)
    }

    /// A campaign.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn campaign(&self, id: i64) -> Result<campaign::Model> {
        campaign::Entity::find_by_id(id).one(&self.db).await?.ok_or(StoreError::NotFound("This campaign"))
    }

    /// Keeps what came of a campaign.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_campaign_outcome(&self, id: i64, outcome: serde_json::Value) -> Result<()> {
        let transaction = self.writing().await?;
        campaign::ActiveModel { id: Set(id), outcome: Set(Some(outcome)), ..Default::default() }
            .update(&transaction)
            .await?;
        Ok(transaction.commit().await?)
    }
}

impl campaign::Model {
    /// Who is held back, and what is done about the others.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn drawn(&self) -> Result<Arms> {
        Ok(serde_json::from_value(self.arms.clone())?)
    }
}
