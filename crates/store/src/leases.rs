//! The lease that a worker has on its job.
//!
//! Whenever a job is taken, its lease number rises. Whatever a job writes is written in a transaction that first
//! sees, and holds until its end, that the number is still its own (a fencing token; Kleppmann, "How to do
//! distributed locking", 2016). So a worker that was overtaken, asleep or cut off changes nothing any more.

use sea_orm::sqlx::{self, PgConnection};
use sea_orm::{ConnectionTrait, DatabaseTransaction, DbBackend, Statement, TransactionTrait};

use crate::{Result, Store, StoreError};

/// Seconds of silence after which a worker counts as gone.
pub const SILENCE_SECONDS: i64 = 8;

/// A lease on a job.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lease {
    /// The job.
    pub job: i64,
    /// Which lease on it.
    pub number: i64,
}

/// The row of a job whose lease holds. Nobody takes the job while it is locked, so that the database ends the session
/// of a server that falls asleep here as soon as its silence would let others take the job.
const HOLDS: &str = "SELECT set_config('idle_in_transaction_session_timeout', $3, true) \
    FROM job WHERE id = $1 AND lease = $2 AND state = 'running' FOR SHARE";

/// How long a server may be silent while it holds a lease, as a setting of the database.
fn silence() -> String {
    format!("{SILENCE_SECONDS}s")
}

impl Lease {
    /// Holds the lease until the end of a transaction.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if somebody else has the job by now, or it has ended.
    pub(crate) async fn hold(self, connection: &mut PgConnection) -> Result<()> {
        let holds =
            sqlx::query(HOLDS).bind(self.job).bind(self.number).bind(silence()).fetch_optional(connection).await?;
        holds.map(|_| ()).ok_or(StoreError::LeaseLost)
    }
}

impl Store {
    /// The same store, through which nothing is written once the lease is lost.
    pub fn under(&self, lease: Lease) -> Self {
        Self { lease: Some(lease), ..self.for_jobs() }
    }

    /// The lease under which is written, if it is a job that writes.
    pub fn lease(&self) -> Option<Lease> {
        self.lease
    }

    /// A transaction to write in; within a job, one that holds its lease.
    pub(crate) async fn writing(&self) -> Result<DatabaseTransaction> {
        let transaction = self.db.begin().await?;
        if let Some(lease) = self.lease {
            let values = [lease.job.into(), lease.number.into(), silence().into()];
            let holds = Statement::from_sql_and_values(DbBackend::Postgres, HOLDS, values);
            transaction.query_one_raw(holds).await?.ok_or(StoreError::LeaseLost)?;
        }
        Ok(transaction)
    }
}

/// Writes down that a job made a row, which it makes once.
pub(crate) async fn made_by(on: &DatabaseTransaction, table: &str, (id, lease): (i64, Lease)) -> Result<()> {
    let sql = format!("UPDATE {table} SET made_by_job = $1 WHERE id = $2");
    on.execute_raw(Statement::from_sql_and_values(DbBackend::Postgres, sql, [lease.job.into(), id.into()])).await?;
    Ok(())
}

/// The row of a table that the present job made when it was begun before.
pub(crate) async fn made_of(store: &Store, table: &str) -> Result<Option<i64>> {
    let Some(lease) = store.lease else { return Ok(None) };
    let sql = format!("SELECT id FROM {table} WHERE made_by_job = $1");
    let made = Statement::from_sql_and_values(DbBackend::Postgres, sql, [lease.job.into()]);
    let row = store.db.query_one_raw(made).await?;
    Ok(row.map(|row| row.try_get("", "id")).transpose()?)
}
