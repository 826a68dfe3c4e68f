//! What an earlier version, or a server that was killed, left half-done.

use sea_orm::{ConnectionTrait, DbBackend, Statement, TransactionTrait};

use crate::archive::drop_table;
use crate::{Result, Store};

impl Store {
    /// Removes scored lists that no list leads to any more, as 0.1.0 left them when a list was answered for anew.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn drop_lost_lists(&self) -> Result<usize> {
        let transaction = self.db.begin().await?;
        let lost = "SELECT id, workspace_id FROM record_table t WHERE is_list \
            AND created_at < now() - interval '1 hour' \
            AND NOT EXISTS (SELECT FROM list l WHERE t.id IN (l.table_id, l.scored_id)) \
            AND NOT EXISTS (SELECT FROM campaign c WHERE c.assigned_id = t.id) \
            AND NOT EXISTS (SELECT FROM upload u WHERE u.table_id = t.id)";
        let rows = transaction.query_all_raw(Statement::from_string(DbBackend::Postgres, lost)).await?;
        for row in &rows {
            drop_table(&transaction, row.try_get("", "workspace_id")?, row.try_get("", "id")?).await?;
        }
        transaction.commit().await?;
        Ok(rows.len())
    }

    /// Puts right what an earlier version, or a server that was killed between two statements, left in a state that
    /// waits for a job which is not there.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn put_states_right(&self) -> Result<u64> {
        const OPEN: &str = "SELECT FROM job WHERE job.state IN ('queued', 'running') AND job.work->>";
        let statements = [
            // What was understood of the file is there: it waits to be accepted once more.
            format!(
                "UPDATE upload SET state = CASE WHEN scan IS NULL THEN 'failed' ELSE 'ready' END, \
                 error = CASE WHEN scan IS NULL THEN 'The server was stopped while it was read. Send the file again.' END \
                 WHERE state IN ('scanning', 'importing') AND NOT EXISTS ({OPEN}'upload' = upload.id::text) \
                 AND NOT EXISTS (SELECT FROM job WHERE job.id = upload.made_by_job AND job.state IN ('queued', 'running')) \
                 AND created_at < now() - interval '1 minute'"
            ),
            format!(
                "UPDATE list SET state = 'stopped' WHERE state = 'scoring' \
                 AND NOT EXISTS ({OPEN}'do' = 'score' AND job.work->>'list' = list.id::text)"
            ),
            format!(
                "UPDATE model SET state = 'stopped' WHERE state = 'queued' \
                 AND NOT EXISTS ({OPEN}'do' = 'fit' AND job.work->>'model' = model.id::text)"
            ),
            format!(
                "UPDATE search SET state = 'stopped' WHERE state = 'queued' \
                 AND NOT EXISTS ({OPEN}'do' = 'search' AND job.work->>'search' = search.id::text)"
            ),
        ];
        let mut changed = 0;
        for statement in statements {
            changed += self.db.execute_unprepared(&statement).await?.rows_affected();
        }
        Ok(changed)
    }
}
