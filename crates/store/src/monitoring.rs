//! What became of models in use: customers met, what was told of them, promises and what happened.

use chrono::{Days, Utc};
use pronoia_core::watch::{CustomerTally, Performance};
use sea_orm::sqlx::{self, types::Json};
use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};
use serde::{Deserialize, Serialize};

use crate::entity::{release_promise, release_tally};
use crate::leases::{made_by, made_of};
use crate::{Result, Store};

/// What a version promised of customers of whom it is known what happened.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Promise {
    /// Of the model that answers.
    pub kept: Performance,
    /// Customers that were passed over, since the model was fitted to them.
    pub passed_over: u64,
    /// The model whose policy is kept in the study, where that is another one.
    #[serde(default)]
    pub beside: Option<OtherCandidate>,
}

/// Another model on the same customers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct OtherCandidate {
    /// Its name.
    pub model: String,
    /// What it would have promised.
    pub kept: Performance,
    /// By how much its area under the ROC curve is larger, with the standard error of that.
    pub larger_by: Option<(f64, f64)>,
}

impl Store {
    /// Adds customers that a version has met today.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn note_tally(&self, version_id: i64, met: &CustomerTally) -> Result<()> {
        let day = Utc::now().date_naive();
        let mut transaction = self.pool().begin().await?;
        // Whoever comes second waits for the row, and adds to what stands there then.
        sqlx::query("INSERT INTO release_tally (version_id, day, tally) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING")
            .bind(version_id)
            .bind(day)
            .bind(Json(CustomerTally::default()))
            .execute(&mut *transaction)
            .await?;
        let Json(mut sum): Json<CustomerTally> =
            sqlx::query_scalar("SELECT tally FROM release_tally WHERE version_id = $1 AND day = $2 FOR UPDATE")
                .bind(version_id)
                .bind(day)
                .fetch_one(&mut *transaction)
                .await?;
        sum.add(met);
        sqlx::query("UPDATE release_tally SET tally = $3 WHERE version_id = $1 AND day = $2")
            .bind(version_id)
            .bind(day)
            .bind(Json(sum))
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Customers that a version has met within the last days.
    ///
    /// # Errors
    /// [`crate::StoreError::Damaged`].
    pub async fn tally(&self, version_id: i64, days: u64) -> Result<CustomerTally> {
        let since = Utc::now().date_naive().checked_sub_days(Days::new(days)).unwrap_or_default();
        let rows = release_tally::Entity::find()
            .filter(release_tally::Column::VersionId.eq(version_id))
            .filter(release_tally::Column::Day.gt(since))
            .all(&self.db)
            .await?;
        let mut sum = CustomerTally::default();
        for row in rows {
            sum.add(&serde_json::from_value(row.tally)?);
        }
        Ok(sum)
    }

    /// Whether something is told of a version for the first time; from then on it is not.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn is_news(&self, version_id: i64, what: &str) -> Result<bool> {
        let told = sqlx::query("INSERT INTO release_alert (version_id, what) VALUES ($1, $2) ON CONFLICT DO NOTHING")
            .bind(version_id)
            .bind(what)
            .execute(self.pool())
            .await?;
        Ok(told.rows_affected() > 0)
    }

    /// Keeps what was found of a version once it was known what happened.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn add_promise(&self, version_id: i64, table: (i64, &str), found: &Promise) -> Result<()> {
        if made_of(self, "release_promise").await?.is_some() {
            return Ok(());
        }
        let transaction = self.writing().await?;
        let row = release_promise::ActiveModel {
            version_id: Set(version_id),
            table_id: Set(table.0),
            table_name: Set(table.1.into()),
            found: Set(serde_json::to_value(found)?),
            ..Default::default()
        };
        let id = row.insert(&transaction).await?.id;
        if let Some(lease) = self.lease() {
            made_by(&transaction, "release_promise", (id, lease)).await?;
        }
        Ok(transaction.commit().await?)
    }

    /// What was found of versions once it was known what happened, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn promises(&self, versions: &[i64]) -> Result<Vec<release_promise::Model>> {
        let of_versions =
            release_promise::Entity::find().filter(release_promise::Column::VersionId.is_in(versions.iter().copied()));
        Ok(of_versions.order_by_desc(release_promise::Column::Id).all(&self.db).await?)
    }
}

impl release_promise::Model {
    /// What was found.
    ///
    /// # Errors
    /// [`crate::StoreError::Damaged`].
    pub fn found(&self) -> Result<Promise> {
        Ok(serde_json::from_value(self.found.clone())?)
    }
}
