//! What was found to go with the outcome of a study, computed once and kept.

use pronoia_core::cautions::Survey;
use pronoia_core::drivers::{Driver, Drivers};
use pronoia_core::study::Basis;
use sea_orm::sea_query::OnConflict;
use sea_orm::sqlx;
use sea_orm::{ActiveValue::Set, EntityTrait, QuerySelect};

use crate::entity::{finding, study};
use crate::{Result, Store, StoreError};

/// What of a finding every page of its study shows.
#[derive(Debug, Clone, PartialEq)]
pub struct FindingInShort {
    /// The choices it rests on.
    pub basis: Basis,
    /// How many columns go strongly with the outcome.
    pub strong: i64,
    /// What was seen of the rows.
    pub survey: Survey,
}

impl Store {
    /// What was found for a study, if anything was looked for yet.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn finding(&self, study_id: i64) -> Result<Option<finding::Model>> {
        Ok(finding::Entity::find_by_id(study_id).one(&self.db).await?)
    }

    /// What of a finding every page of its study shows.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn finding_in_short(&self, study_id: i64) -> Result<Option<FindingInShort>> {
        let row: Option<(serde_json::Value, i64, serde_json::Value)> = finding::Entity::find_by_id(study_id)
            .select_only()
            .columns([finding::Column::Basis, finding::Column::Strong, finding::Column::Survey])
            .into_tuple()
            .one(&self.db)
            .await?;
        row.map(|(basis, strong, survey)| {
            let (basis, survey) = (serde_json::from_value(basis)?, serde_json::from_value(survey)?);
            Ok(FindingInShort { basis, strong, survey })
        })
        .transpose()
    }

    /// What was found of one column alone, of the choices that it was found with.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub async fn driver(&self, study_id: i64, column: &str) -> Result<Option<(Basis, Driver)>> {
        let sql = "SELECT basis, jsonb_path_query_first(drivers, '$.columns[*] ? (@.column == $name)', \
                   jsonb_build_object('name', $2::text)) FROM finding WHERE study_id = $1";
        let found: Option<(serde_json::Value, Option<serde_json::Value>)> =
            sqlx::query_as(sql).bind(study_id).bind(column).fetch_optional(self.pool()).await?;
        let Some((basis, Some(driver))) = found else { return Ok(None) };
        Ok(Some((serde_json::from_value(basis)?, serde_json::from_value(driver)?)))
    }

    /// Keeps what was found, in place of what was found before; unless the
    /// choices are no longer those it was found with.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_finding(&self, study_id: i64, basis: &Basis, drivers: &Drivers, survey: &Survey) -> Result<()> {
        let transaction = self.writing().await?;
        let study = study::Entity::find_by_id(study_id).lock_shared().one(&transaction).await?;
        if study.ok_or(StoreError::NotFound("This study"))?.choices()?.basis().as_ref() != Some(basis) {
            return Ok(());
        }
        let row = finding::ActiveModel {
            study_id: Set(study_id),
            basis: Set(serde_json::to_value(basis)?),
            strong: Set(drivers.strong().count() as i64),
            drivers: Set(serde_json::to_value(drivers)?),
            survey: Set(serde_json::to_value(survey)?),
            created_at: Set(chrono::Utc::now()),
        };
        let replace = OnConflict::column(finding::Column::StudyId)
            .update_columns([
                finding::Column::Basis,
                finding::Column::Strong,
                finding::Column::Drivers,
                finding::Column::Survey,
                finding::Column::CreatedAt,
            ])
            .to_owned();
        finding::Entity::insert(row).on_conflict(replace).exec(&transaction).await?;
        transaction.commit().await?;
        Ok(())
    }
}

impl finding::Model {
    /// What was found.
    ///
    /// # Errors
    /// [`crate::StoreError::Damaged`].
    pub fn found(&self) -> Result<Drivers> {
        Ok(serde_json::from_value(self.drivers.clone())?)
    }
}
