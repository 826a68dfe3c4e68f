//! Lists acted on.

use pronoia_core::campaign::Arms;
use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};

use crate::entity::campaign;
use crate::{Result, Store, StoreError};

impl Store {
    /// Remembers a campaign whose arms are to be drawn.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn add_campaign(&self, study_id: i64, list_id: i64, name: &str, arms: &Arms) -> Result<i64> {
        let row = campaign::ActiveModel {
            study_id: Set(study_id),
            list_id: Set(list_id),
            name: Set(name.into()),
            arms: Set(serde_json::to_value(arms)?),
            ..Default::default()
        };
        Ok(row.insert(&self.db).await?.id)
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
        campaign::ActiveModel { id: Set(id), outcome: Set(Some(outcome)), ..Default::default() }
            .update(&self.db)
            .await?;
        Ok(())
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
