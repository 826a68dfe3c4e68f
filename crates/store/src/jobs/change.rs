//! States that change together with the work that is put in the queue.

use pronoia_core::intake::Scan;
use pronoia_core::score::{ColumnAnswers, Extras};
use sea_orm::{ConnectionTrait, DatabaseTransaction, DbBackend, Statement};

use super::{Work, put};
use crate::archive::drop_table;
use crate::{Result, Store, StoreError};

/// A state that changes together with the work that is put in the queue, if it is what it should be.
#[derive(Debug, Clone, Copy)]
pub enum StateChange<'a> {
    /// A file is read once more.
    UploadRead {
        /// The upload, which has to be ready.
        upload: i64,
    },
    /// A file is accepted, as it is now understood.
    UploadAccepted {
        /// The upload, which has to be ready.
        upload: i64,
        /// How it is understood.
        scan: &'a Scan,
    },
    /// A list is to be scored.
    ListScoring {
        /// The list, which must be neither scored nor being scored.
        list: i64,
        /// What its scored form holds besides.
        extras: &'a Extras,
    },
    /// Something was said about the columns of a list.
    ListAnswered {
        /// The list, which must not be being scored.
        list: i64,
        /// What was said.
        answers: &'a ColumnAnswers,
    },
}

impl StateChange<'_> {
    async fn make(self, on: &DatabaseTransaction) -> Result<()> {
        let (sql, values, refusal): (_, Vec<sea_orm::Value>, _) = match self {
            Self::UploadRead { upload } => (
                "UPDATE upload SET state = 'scanning', error = NULL WHERE id = $1 AND state = 'ready'",
                vec![upload.into()],
                "The file is not ready: it is still being read, or was accepted already.",
            ),
            Self::UploadAccepted { upload, scan } => (
                "UPDATE upload SET state = 'importing', scan = $2 WHERE id = $1 AND state = 'ready'",
                vec![upload.into(), serde_json::to_value(scan)?.into()],
                "The file is not ready to be accepted: it is still being read, or was accepted already.",
            ),
            Self::ListScoring { list, extras } => (
                "UPDATE list SET state = 'scoring', extras = $2 WHERE id = $1 AND state IN ('matched', 'stopped', 'failed')",
                vec![list.into(), serde_json::to_value(extras)?.into()],
                "The list is being scored, or was scored already.",
            ),
            Self::ListAnswered { list, answers } => (
                "UPDATE list SET answers = $2, state = 'matched', scored_id = NULL, acted = NULL, gain = NULL, suppressed = 0 \
                 WHERE id = $1 AND state <> 'scoring'",
                vec![list.into(), serde_json::to_value(answers)?.into()],
                "The list is being scored; wait until it is done, or cancel that.",
            ),
        };
        if let Self::ListAnswered { list, .. } = self {
            drop_scored(on, list).await?;
        }
        let changed = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        match on.execute_raw(changed).await?.rows_affected() {
            0 => Err(StoreError::Refused(refusal.into())),
            _ => Ok(()),
        }
    }
}

/// Removes the scored form of a list: it was scored by what was said before.
async fn drop_scored(on: &DatabaseTransaction, list: i64) -> Result<()> {
    let sql = "SELECT s.workspace_id, l.scored_id FROM list l JOIN study s ON s.id = l.study_id \
        WHERE l.id = $1 AND l.state <> 'scoring' AND l.scored_id IS NOT NULL FOR UPDATE OF l";
    let scored = Statement::from_sql_and_values(DbBackend::Postgres, sql, [list.into()]);
    let Some(row) = on.query_one_raw(scored).await? else { return Ok(()) };
    let (workspace, table) = (row.try_get("", "workspace_id")?, row.try_get("", "scored_id")?);
    let forget = "UPDATE list SET scored_id = NULL WHERE id = $1";
    on.execute_raw(Statement::from_sql_and_values(DbBackend::Postgres, forget, [list.into()])).await?;
    drop_table(on, workspace, table).await
}

impl Store {
    /// Changes a state and puts the work that follows from it in the queue: both or neither. `change` is told the
    /// transaction, and refuses if the state is no longer what it should be.
    ///
    /// # Errors
    /// What `change` says; [`StoreError::Refused`] if the workspace has too much waiting.
    pub async fn change_and_enqueue(
        &self,
        (workspace_id, study_id): (i64, Option<i64>),
        (title, work): (&str, &Work),
        change: StateChange<'_>,
    ) -> Result<i64> {
        let transaction = self.writing().await?;
        change.make(&transaction).await?;
        let job = put(&transaction, workspace_id, study_id, title, work).await?;
        transaction.commit().await?;
        Ok(job)
    }
}
