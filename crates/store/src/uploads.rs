//! Files that were sent, until they are tables.

use std::collections::HashMap;
use std::path::Path;

use chrono::{DateTime, Utc};
use pronoia_core::intake::Scan;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, Condition, ConnectionTrait, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect,
};

use crate::entity::upload;
use crate::jobs::{Work, put};
use crate::leases::{made_by, made_of};
use crate::{Result, Store, StoreError};

/// A file that lies whole in the uploads folder.
#[derive(Debug, Clone, Copy)]
pub struct Arrived<'a> {
    /// Its name as sent.
    pub file_name: &'a str,
    /// Where it came from, if not from somebody's hand: “read from …”.
    pub origin: Option<&'a str>,
    /// Where the bytes are.
    pub path: &'a Path,
    /// Bytes.
    pub size: u64,
}

impl Store {
    /// Remembers a file that has arrived whole.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn add_upload(&self, workspace_id: i64, study_id: Option<i64>, arrived: &Arrived<'_>) -> Result<i64> {
        let transaction = self.writing().await?;
        let id = added(&transaction, workspace_id, study_id, arrived).await?;
        if let Some(lease) = self.lease() {
            made_by(&transaction, "upload", (id, lease)).await?;
        }
        transaction.commit().await?;
        Ok(id)
    }

    /// Remembers a file that has arrived whole, and puts the work of reading it in the queue: both or neither. The
    /// upload and the job.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the workspace has too much waiting; then the file is nobody's.
    pub async fn take_in(&self, workspace_id: i64, study_id: Option<i64>, arrived: &Arrived<'_>) -> Result<(i64, i64)> {
        let transaction = self.writing().await?;
        let upload = added(&transaction, workspace_id, study_id, arrived).await?;
        let (title, work) = (format!("Reading {}", arrived.file_name), Work::Scan { upload, sheet: None });
        let job = put(&transaction, workspace_id, study_id, &title, &work).await?;
        transaction.commit().await?;
        Ok((upload, job))
    }

    /// Files of the uploads folder that somebody still needs: their paths.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn files_needed(&self) -> Result<Vec<String>> {
        let needed = upload::Column::State.is_in(["scanning", "ready", "importing"]);
        let paths = upload::Entity::find().select_only().column(upload::Column::Path).filter(needed);
        Ok(paths.into_tuple().all(&self.db).await?)
    }

    /// The upload that a job made, if it was begun before.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn upload_of_job(&self) -> Result<Option<i64>> {
        made_of(self, "upload").await
    }

    /// When a file of each name came last.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn last_uploads(&self, workspace_id: i64) -> Result<HashMap<String, DateTime<Utc>>> {
        let rows: Vec<(String, DateTime<Utc>)> = upload::Entity::find()
            .select_only()
            .column(upload::Column::FileName)
            .column_as(upload::Column::CreatedAt.max(), "last")
            .filter(upload::Column::WorkspaceId.eq(workspace_id))
            .group_by(upload::Column::FileName)
            .into_tuple()
            .all(&self.db)
            .await?;
        Ok(rows.into_iter().collect())
    }

    /// An upload of this workspace.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn upload(&self, workspace_id: i64, id: i64) -> Result<upload::Model> {
        let found =
            upload::Entity::find_by_id(id).filter(upload::Column::WorkspaceId.eq(workspace_id)).one(&self.db).await?;
        found.ok_or(StoreError::NotFound("This file"))
    }

    /// Files of customer records that are being read, wait to be accepted, or
    /// failed within the last day; newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn waiting_uploads(&self, workspace_id: i64) -> Result<Vec<upload::Model>> {
        let yesterday = chrono::Utc::now() - chrono::TimeDelta::days(1);
        let failed =
            Condition::all().add(upload::Column::State.eq("failed")).add(upload::Column::CreatedAt.gt(yesterday));
        let waiting = upload::Column::State.is_in(["scanning", "ready", "importing"]);
        Ok(upload::Entity::find()
            .filter(upload::Column::WorkspaceId.eq(workspace_id))
            .filter(upload::Column::StudyId.is_null())
            .filter(Condition::any().add(waiting).add(failed))
            .order_by_desc(upload::Column::Id)
            .limit(50)
            .all(&self.db)
            .await?)
    }

    /// Writes down what was found in the file, and how far it is.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_scan(&self, id: i64, scan: &Scan, state: &str) -> Result<()> {
        let transaction = self.writing().await?;
        let row = upload::ActiveModel {
            id: Set(id),
            scan: Set(Some(serde_json::to_value(scan)?)),
            state: Set(state.into()),
            ..Default::default()
        };
        row.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }

    /// Writes down how far an upload is, and why it went no further.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_upload_state(&self, id: i64, state: &str, error: Option<&str>) -> Result<()> {
        let transaction = self.writing().await?;
        let row = upload::ActiveModel {
            id: Set(id),
            state: Set(state.into()),
            error: Set(error.map(str::to_owned)),
            ..Default::default()
        };
        row.update(&transaction).await?;
        Ok(transaction.commit().await?)
    }
}

impl upload::Model {
    /// What was found in the file, once it was read.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn scanned(&self) -> Result<Option<Scan>> {
        Ok(self.scan.clone().map(serde_json::from_value).transpose()?)
    }
}

/// Remembers a file that has arrived whole, within whatever else is done; its key.
async fn added(
    on: &impl ConnectionTrait,
    workspace_id: i64,
    study_id: Option<i64>,
    arrived: &Arrived<'_>,
) -> Result<i64> {
    let row = upload::ActiveModel {
        workspace_id: Set(workspace_id),
        study_id: Set(study_id),
        file_name: Set(arrived.file_name.into()),
        origin: Set(arrived.origin.map(str::to_owned)),
        path: Set(arrived.path.to_string_lossy().into_owned()),
        size: Set(arrived.size as i64),
        state: Set("scanning".into()),
        ..Default::default()
    };
    Ok(row.insert(on).await?.id)
}
