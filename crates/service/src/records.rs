//! What is done at Records: files taken in and accepted.

use std::collections::BTreeMap;

use pronoia_core::Kind;
use pronoia_core::intake::Scan;
use pronoia_core::value::{DateOrder, ValueFormat};
use pronoia_store::jobs::{StateChange, Work};
use pronoia_store::member_role::MemberRole;
use pronoia_store::uploads::Arrived;
use pronoia_store::{StoreError, upload};
use serde::Deserialize;
use utoipa::ToSchema;

use crate::App;
use crate::action::{Action, ActionScope, Declaration, Queued};
use crate::error::ServiceError;

/// A file that was put in the queue.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct QueuedFile {
    /// The file.
    pub upload: i64,
    /// The job that reads it.
    pub job: i64,
}

/// What a file is called, without where it lay; empty if it has no name.
pub fn name_of(given: &str) -> String {
    given.rsplit(['/', '\\']).next().unwrap_or("").chars().filter(|c| !c.is_control()).take(120).collect()
}

/// Puts a file that lies whole in the uploads folder into the queue, to be read; where that is refused, nothing of it is
/// left.
///
/// # Errors
/// If the workspace has too much waiting, or the database does not answer.
pub async fn take_in(
    app: &App,
    workspace: i64,
    study: Option<i64>,
    arrived: &Arrived<'_>,
) -> Result<QueuedFile, StoreError> {
    match app.store.take_in(workspace, study, arrived).await {
        Ok((upload, job)) => Ok(QueuedFile { upload, job }),
        Err(e) => {
            if let Err(e) = tokio::fs::remove_file(arrived.path).await {
                tracing::warn!("a file that was refused could not be removed: {e}");
            }
            Err(e)
        }
    }
}

/// Reads another sheet of a workbook.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ReadSheet {
    /// The file.
    pub file: i64,
    /// The sheet.
    pub sheet: String,
}

impl Action for ReadSheet {
    const DECLARATION: Declaration = Declaration {
        title: "Read another sheet of a workbook",
        role: MemberRole::Analyst,
        path: "/api/v1/files/{file}/sheet",
        status: 202,
    };
    type Done = Queued;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Queued, ServiceError> {
        let upload = scope.app.store.upload(scope.by.workspace, self.file).await?;
        let title = format!("Reading {} of {}", self.sheet, upload.file_name);
        let work = Work::Scan { upload: upload.id, sheet: Some(self.sheet) };
        let change = StateChange::UploadRead { upload: upload.id };
        let app = scope.begin().await?;
        Ok(Queued { job: app.store.change_and_enqueue((scope.by.workspace, None), (&title, &work), change).await? })
    }
}

/// Makes a file that was read a table.
#[derive(Debug, Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AcceptFile {
    /// The file.
    pub file: i64,
    /// Kinds of columns that are to be others than were found, by the place of the column.
    #[serde(default)]
    pub kinds: BTreeMap<usize, String>,
    /// Orders of day, month and year, by the place of the column.
    #[serde(default)]
    pub orders: BTreeMap<usize, String>,
}

impl Action for AcceptFile {
    const DECLARATION: Declaration = Declaration {
        title: "Accept a file",
        role: MemberRole::Analyst,
        path: "/api/v1/files/{file}/accept",
        status: 202,
    };
    type Done = Queued;

    async fn perform(self, scope: &ActionScope<'_>) -> Result<Queued, ServiceError> {
        let upload = scope.app.store.upload(scope.by.workspace, self.file).await?;
        let mut scan = ready(&upload)?;
        let columns = scan.plan.columns.len();
        for at in (0..columns).filter(|at| self.kinds.contains_key(at) || self.orders.contains_key(at)) {
            if let Some(word) = self.orders.get(&at) {
                let order = DateOrder::BOTH_WAYS.into_iter().find(|o| o.word() == word);
                let order = order.ok_or_else(|| ServiceError::Refused(format!("“{word}” is no order of a date.")))?;
                scan.plan.columns[at].format = ValueFormat::Date { order };
            }
            let column = &scan.plan.columns[at];
            let Some(word) = self.kinds.get(&at) else { continue };
            let kind: Kind = word.parse().map_err(ServiceError::Refused)?;
            if kind != column.kind {
                let name = column.name.clone();
                scan.plan.read_as(&name, kind);
            }
        }
        let (title, work) = (format!("Importing {}", upload.file_name), Work::Import { upload: upload.id });
        let change = StateChange::UploadAccepted { upload: upload.id, scan: &scan };
        let app = scope.begin().await?;
        Ok(Queued { job: app.store.change_and_enqueue((upload.workspace_id, None), (&title, &work), change).await? })
    }
}

/// How a file that waits to be accepted was understood.
fn ready(upload: &upload::Model) -> Result<Scan, ServiceError> {
    upload.scanned()?.filter(|_| upload.state == "ready").ok_or_else(|| {
        ServiceError::Refused(
            "The file is not ready to be accepted: it is still being read, or was accepted already.".into(),
        )
    })
}
