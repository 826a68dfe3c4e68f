//! Where Pronoia keeps things: PostgreSQL through SeaORM.
//!
//! Customer records are real tables, one per table version, streamed in with
//! COPY and sealed in one transaction. Everything else is entities.

pub mod accounts;
pub mod away;
pub mod backup;
pub mod campaigns;
pub mod candidates;
pub mod dictionary;
pub mod do_not_contact;
mod entity;
pub mod erasure;
mod error;
pub mod findings;
pub mod fits;
pub mod jobs;
pub mod judgements;
mod keys;
pub mod leases;
pub mod ledger;
pub mod lists;
mod locks;
pub mod models;
pub mod people;
pub mod programs;
pub mod queries;
pub mod records;
pub mod releases;
pub mod rules;
mod schema;
pub mod searches;
mod sessions;
pub mod shares;
mod sign_in;
pub mod sources;
pub mod studies;
pub mod uploads;
pub mod watched;

pub use entity::{
    account, campaign, finding, invitation, job, ledger_entry, list, model, program_key, record_table, release,
    release_key, release_promise, release_use, release_version, rule_tried, search, session, share, source, study,
    upload, workspace,
};
pub use error::StoreError;

use std::time::Duration;

use sea_orm::{ConnectOptions, ConnectionTrait, Database, DatabaseConnection};
use sea_orm_migration::MigratorTrait;

/// What every function of the store returns.
pub type Result<T> = std::result::Result<T, StoreError>;

/// A connection to the database; cheap to clone.
#[derive(Clone)]
pub struct Store {
    db: DatabaseConnection,
    /// The lease under which a job writes.
    lease: Option<leases::Lease>,
    /// What is known about questions in SQL.
    questions: queries::SharedQuestions,
}

impl std::fmt::Debug for Store {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Store").finish_non_exhaustive()
    }
}

/// How often a server that starts, or is busy, is knocked at; three seconds each.
const MOST_KNOCKS: usize = 4;

impl Store {
    /// Connects, waiting a little for a server that is not ready yet, and brings
    /// the schema up to date.
    ///
    /// # Errors
    /// [`StoreError::Unreachable`] if no server answers.
    pub async fn open(url: &str) -> Result<Self> {
        let mut options = ConnectOptions::new(url);
        options
            .max_connections(16)
            .acquire_timeout(Duration::from_secs(3))
            .connect_timeout(Duration::from_secs(3))
            .sqlx_logging(false);
        let mut knocks = 1;
        let db = loop {
            match Database::connect(options.clone()).await.map_err(StoreError::from) {
                Err(StoreError::Unreachable) if knocks < MOST_KNOCKS => knocks += 1,
                answer => break answer?,
            }
        };
        // Several servers that start at once do not change the tables at once.
        locks::alone(url, locks::Lock::Schema, async { Ok(schema::Migrator::up(&db, None).await?) }).await?;
        Ok(Self { db, lease: None, questions: queries::SharedQuestions::default() })
    }

    /// Whether the database answers now.
    ///
    /// # Errors
    /// [`StoreError::Unreachable`] if it does not.
    pub async fn ping(&self) -> Result<()> {
        self.db.execute_unprepared("SELECT 1").await?;
        Ok(())
    }

    fn pool(&self) -> &sea_orm::sqlx::PgPool {
        self.db.get_postgres_connection_pool()
    }
}
