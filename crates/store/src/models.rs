//! Candidates of a study.

use std::collections::HashMap;

use pronoia_core::cautions::Caution;
use pronoia_core::decide::Ranking;
use pronoia_core::evaluate::Evaluation;
use pronoia_core::model::Recipe;
use pronoia_core::study::Basis;
use pronoia_core::validation::{Diagnostics, ModelImportance, Without};
use pronoia_core::{EvaluatedModel, Model};
use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QuerySelect};
use serde::{Deserialize, Serialize};

use crate::entity::{judgement, model};
use crate::{Result, Store, StoreError, holdout_predictions};

/// What a fit has brought.
#[derive(Debug, Clone)]
pub struct FittedCandidate {
    /// The model, and what it said of the rows that it is judged on.
    pub judged: EvaluatedModel,
    /// How it did on them.
    pub evaluation: Evaluation,
    /// The rows in order of probability.
    pub ranking: Ranking,
    /// The same of the rows that it was fitted to, as it tells them itself.
    pub training: Ranking,
    /// What would make it wrong.
    pub cautions: Vec<Caution>,
    /// How long the fit took.
    pub fit_seconds: f64,
    /// How long a thousand customers take to score.
    pub score_seconds: f64,
}

/// What came of fitting a candidate again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Proof {
    /// Whether the model is the same, bit for bit.
    pub same: bool,
    /// Whether the records are.
    pub same_records: bool,
    /// The version of the program that fitted it again.
    pub version: String,
    /// When.
    pub at: chrono::DateTime<chrono::Utc>,
}

impl Store {
    /// The figures of those of some candidates that were judged, with their curves; and the rows that they
    /// were judged on, in order of probability.
    ///
    /// # Errors
    /// If the database does not answer, or [`StoreError::Damaged`].
    pub async fn figures(&self, models: &[i64]) -> Result<HashMap<i64, (Evaluation, Option<Ranking>)>> {
        use model::Column as C;
        let judged = model::Entity::find().select_only().columns([C::Id, C::Evaluation, C::Ranking]);
        let judged = judged.filter(C::Id.is_in(models.iter().copied())).filter(C::Evaluation.is_not_null());
        let rows: Vec<(i64, serde_json::Value, Option<serde_json::Value>)> = judged.into_tuple().all(&self.db).await?;
        let read = |(id, evaluation, ranking): (i64, serde_json::Value, Option<serde_json::Value>)| {
            Ok((id, (serde_json::from_value(evaluation)?, ranking.map(serde_json::from_value).transpose()?)))
        };
        rows.into_iter().map(read).collect()
    }

    /// What all candidates of a study are called, those that were taken off the list among them.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn model_names(&self, study_id: i64) -> Result<HashMap<i64, String>> {
        use model::Column as C;
        let of_study = model::Entity::find().select_only().columns([C::Id, C::Name]).filter(C::StudyId.eq(study_id));
        let rows: Vec<(i64, String)> = of_study.into_tuple().all(&self.db).await?;
        Ok(rows.into_iter().collect())
    }

    /// The name of a candidate, without looking at the rest of it.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn model_name(&self, id: i64) -> Result<String> {
        let found = model::Entity::find_by_id(id).select_only().column(model::Column::Name);
        found.into_tuple().one(&self.db).await?.ok_or(StoreError::NotFound("This candidate"))
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
    pub async fn set_fitted(&self, id: i64, brought: &FittedCandidate) -> Result<()> {
        let artefact = brought.judged.model.to_bytes().map_err(|e| StoreError::Damaged(e.to_string()))?;
        let transaction = self.writing().await?;
        judgement::Entity::delete_by_id(id).exec(&transaction).await?;
        judgement::Entity::insert(holdout_predictions::stored(id, &brought.judged))
            .exec_without_returning(&transaction)
            .await?;
        model::ActiveModel {
            id: Set(id),
            state: Set("fitted".into()),
            artefact: Set(Some(artefact)),
            evaluation: Set(Some(serde_json::to_value(&brought.evaluation)?)),
            ranking: Set(Some(serde_json::to_value(&brought.ranking)?)),
            training: Set(Some(serde_json::to_value(&brought.training)?)),
            cautions: Set(serde_json::to_value(&brought.cautions)?),
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

    /// Keeps a closer look at a candidate.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_closer(&self, id: i64, closer: &Diagnostics) -> Result<()> {
        let transaction = self.writing().await?;
        let closer = Set(Some(serde_json::to_value(closer)?));
        model::ActiveModel { id: Set(id), closer, ..Default::default() }.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }

    /// Keeps what a candidate goes by.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_understanding(&self, id: i64, found: &ModelImportance) -> Result<()> {
        let transaction = self.writing().await?;
        let understanding = Set(Some(serde_json::to_value(found)?));
        model::ActiveModel { id: Set(id), understanding, ..Default::default() }.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }

    /// Keeps what the policy would be worth on a candidate made without some columns.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_without(&self, id: i64, found: &Without) -> Result<()> {
        let transaction = self.writing().await?;
        let without = Set(Some(serde_json::to_value(found)?));
        model::ActiveModel { id: Set(id), without, ..Default::default() }.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }

    /// What the policy would be worth on a candidate made without some columns, if somebody asked;
    /// read without the candidate's artefact, which may be large.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub async fn tried_without(&self, id: i64) -> Result<Option<Without>> {
        let found = model::Entity::find_by_id(id).select_only().column(model::Column::Without);
        let found: Option<Option<serde_json::Value>> = found.into_tuple().one(&self.db).await?;
        Ok(found.flatten().map(serde_json::from_value).transpose()?)
    }

    /// Keeps what came of fitting a candidate again.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_proof(&self, id: i64, proof: &Proof) -> Result<()> {
        let transaction = self.writing().await?;
        let proof = Set(Some(serde_json::to_value(proof)?));
        model::ActiveModel { id: Set(id), proof, ..Default::default() }.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }

    /// Writes down that a candidate was not fitted, or waits again.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_model_state(&self, id: i64, state: &str, error: Option<&str>) -> Result<()> {
        let transaction = self.writing().await?;
        model::ActiveModel {
            id: Set(id),
            state: Set(state.into()),
            error: Set(error.map(str::to_owned)),
            ..Default::default()
        }
        .update(&transaction)
        .await?;
        Ok(transaction.commit().await?)
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

    /// What it is made by.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn recipe(&self) -> Result<Recipe> {
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

    /// The rows that it was fitted to in order of probability; only of a
    /// candidate that was looked up by itself.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn ranked_training(&self) -> Result<Option<Ranking>> {
        Ok(self.training.clone().map(serde_json::from_value).transpose()?)
    }

    /// What would make it wrong.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn warned_of(&self) -> Result<Vec<Caution>> {
        Ok(serde_json::from_value(self.cautions.clone())?)
    }

    /// The closer look, if somebody asked for it; only of a candidate that was
    /// looked up by itself.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn looked_at(&self) -> Result<Option<Diagnostics>> {
        Ok(self.closer.clone().map(serde_json::from_value).transpose()?)
    }

    /// What it goes by, if somebody asked; only of a candidate that was looked up by itself.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn understood(&self) -> Result<Option<ModelImportance>> {
        Ok(self.understanding.clone().map(serde_json::from_value).transpose()?)
    }

    /// What came of fitting it again, if somebody did.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn proved(&self) -> Result<Option<Proof>> {
        Ok(self.proof.clone().map(serde_json::from_value).transpose()?)
    }
}
