//! Locks that servers take from each other: rows of a table of their own, which nobody else can touch.

use sea_orm::sqlx::{self, AssertSqlSafe, Connection, Executor, PgConnection, Postgres, Transaction};

use crate::{Result, StoreError};

/// What only one server does at a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Lock {
    /// Changing the tables that Pronoia keeps for itself.
    Schema,
    /// Making the roles and views that questions are asked with.
    Questions,
    /// Giving names to published lists, and schemas to workspaces.
    Names,
}

impl Lock {
    fn name(self) -> &'static str {
        match self {
            Self::Schema => "schema",
            Self::Questions => "questions",
            Self::Names => "names",
        }
    }

    /// How long it is waited for.
    fn patience(self) -> &'static str {
        match self {
            // A change of large tables takes its time.
            Self::Schema => "10min",
            Self::Questions | Self::Names => "10s",
        }
    }

    /// Waits for the lock; it is held until the transaction ends.
    ///
    /// # Errors
    /// [`StoreError::Busy`] if another server holds it for too long.
    pub async fn hold(self, transaction: &mut Transaction<'_, Postgres>) -> Result<()> {
        let patience = format!("SET LOCAL lock_timeout = '{}'", self.patience());
        transaction.execute(AssertSqlSafe(patience)).await?;
        sqlx::query("SELECT FROM server_lock WHERE name = $1 FOR UPDATE")
            .bind(self.name())
            .execute(&mut **transaction)
            .await?;
        transaction.execute("SET LOCAL lock_timeout = DEFAULT").await?;
        Ok(())
    }
}

/// Makes the table of locks, if it is not there.
pub(crate) async fn make(connection: &mut PgConnection) -> Result<()> {
    const STATEMENTS: [&str; 2] = [
        "CREATE TABLE IF NOT EXISTS server_lock (name text PRIMARY KEY)",
        "INSERT INTO server_lock VALUES ('schema'), ('questions'), ('names') ON CONFLICT DO NOTHING",
    ];
    for statement in STATEMENTS {
        // Of two servers that make it at the same moment one may be told that it is there.
        let mut tries = 0;
        while let Err(e) = connection.execute(statement).await {
            let is_there =
                e.as_database_error().is_some_and(|e| matches!(e.code().as_deref(), Some("23505" | "42P07" | "42710")));
            tries += 1;
            if !is_there || tries > 3 {
                return Err(e.into());
            }
        }
    }
    Ok(())
}

/// Does something while no other server does.
pub(crate) async fn alone<T>(url: &str, lock: Lock, work: impl Future<Output = Result<T>>) -> Result<T> {
    let mut connection = PgConnection::connect(url).await?;
    make(&mut connection).await?;
    let mut transaction = connection.begin().await?;
    lock.hold(&mut transaction).await?;
    let done = work.await;
    transaction.commit().await.map_err(StoreError::from)?;
    connection.close().await?;
    done
}
