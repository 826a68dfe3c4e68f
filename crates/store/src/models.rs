//! Candidates of a study.

use pronoia_core::decide::Ranking;
use pronoia_core::evaluate::Evaluation;
use pronoia_core::learn::Settings;
use pronoia_core::study::Basis;
use pronoia_core::{Judged, Model};
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect,
    TransactionTrait,
};

use crate::entity::{judgement, model};
use crate::{Result, Store, StoreError, judgements};

/// What a fit has brought.
#[derive(Debug, Clone)]
pub struct Brought {
    /// The model, and what it said of the rows that it is judged on.
    pub judged: Judged,
    /// How it did on them.
    pub evaluation: Evaluation,
    /// The rows in order of probability.
    pub ranking: Ranking,
    /// How long the fit took.
    pub fit_seconds: f64,
    /// How long a thousand customers take to score.
    pub score_seconds: f64,
}

impl Store {
    /// Remembers a candidate that is to be fitted.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn add_model(
        &self,
        study_id: i64,
        name: &str,
        settings: &Settings,
        basis: &Basis,
        seed: u64,
    ) -> Result<i64> {
        let row = model::ActiveModel {
            study_id: Set(study_id),
            name: Set(name.into()),
            settings: Set(serde_json::to_value(settings)?),
            basis: Set(serde_json::to_value(basis)?),
            seed: Set(seed as i64),
            state: Set("queued".into()),
            ..Default::default()
        };
        Ok(row.insert(&self.db).await?.id)
    }

    /// All candidates of a study, oldest first, without their artefacts.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn models(&self, study_id: i64) -> Result<Vec<model::Model>> {
        use model::Column as C;
        let rows = model::Entity::find()
            .select_only()
            .columns([C::Id, C::StudyId, C::Name, C::Settings, C::Basis, C::Seed, C::State, C::Evaluation])
            .columns([C::Ranking, C::FitSeconds, C::ScoreSeconds, C::Error, C::Retired, C::CreatedAt])
            .expr_as(sea_orm::sea_query::Expr::cust("NULL::bytea"), "artefact")
            .filter(C::StudyId.eq(study_id))
            .filter(C::Retired.eq(false))
            .order_by_asc(C::Id)
            .all(&self.db)
            .await?;
        Ok(rows)
    }

    /// Takes a candidate off the list; lists and policies that use it keep it.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn retire_model(&self, id: i64) -> Result<()> {
        model::ActiveModel { id: Set(id), retired: Set(true), ..Default::default() }.update(&self.db).await?;
        Ok(())
    }

    /// A candidate of a study, with its artefact.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn model(&self, id: i64) -> Result<model::Model> {
        model::Entity::find_by_id(id).one(&self.db).await?.ok_or(StoreError::NotFound("This model"))
    }

    /// Keeps what a fit has brought.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] if the model cannot be written down.
    pub async fn set_fitted(&self, id: i64, brought: &Brought) -> Result<()> {
        let artefact = brought.judged.model.to_bytes().map_err(|e| StoreError::Damaged(e.to_string()))?;
        let transaction = self.db.begin().await?;
        judgement::Entity::delete_by_id(id).exec(&transaction).await?;
        judgement::Entity::insert(judgements::stored(id, &brought.judged)).exec_without_returning(&transaction).await?;
        model::ActiveModel {
            id: Set(id),
            state: Set("fitted".into()),
            artefact: Set(Some(artefact)),
            evaluation: Set(Some(serde_json::to_value(&brought.evaluation)?)),
            ranking: Set(Some(serde_json::to_value(&brought.ranking)?)),
            fit_seconds: Set(Some(brought.fit_seconds)),
            score_seconds: Set(Some(brought.score_seconds)),
            error: Set(None),
            ..Default::default()
        }
        .update(&transaction)
        .await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Writes down that a candidate was not fitted, or waits again.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_model_state(&self, id: i64, state: &str, error: Option<&str>) -> Result<()> {
        model::ActiveModel {
            id: Set(id),
            state: Set(state.into()),
            error: Set(error.map(str::to_owned)),
            ..Default::default()
        }
        .update(&self.db)
        .await?;
        Ok(())
    }
}

impl model::Model {
    /// The fitted model.
    ///
    /// # Errors
    /// [`StoreError::Damaged`] if there is none or it cannot be read.
    pub fn fitted(&self) -> Result<Model> {
        let bytes = self.artefact.as_deref().ok_or_else(|| StoreError::Damaged("the model is not fitted".into()))?;
        Model::from_bytes(bytes).map_err(|e| StoreError::Damaged(e.to_string()))
    }

    /// Family and settings.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn asked(&self) -> Result<Settings> {
        Ok(serde_json::from_value(self.settings.clone())?)
    }

    /// What it is fitted on.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn fitted_on(&self) -> Result<Basis> {
        Ok(serde_json::from_value(self.basis.clone())?)
    }

    /// How it did on validation rows.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn judged(&self) -> Result<Option<Evaluation>> {
        Ok(self.evaluation.clone().map(serde_json::from_value).transpose()?)
    }

    /// Validation rows in order of probability.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn ranked(&self) -> Result<Option<Ranking>> {
        Ok(self.ranking.clone().map(serde_json::from_value).transpose()?)
    }
}
