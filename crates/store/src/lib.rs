//! Where Pronoia keeps things: PostgreSQL through SeaORM.
//!
//! Customer records are real tables, one per table version, streamed in with
//! COPY and sealed in one transaction. Everything else is entities.

pub mod accounts;
pub mod api_keys;
pub mod archive;
pub mod backup;
pub mod campaigns;
pub mod candidates;
pub mod dictionary;
pub mod do_not_contact;
pub mod driver_analysis;
mod entity;
pub mod erasure;
mod error;
pub mod fits;
pub mod holdout_predictions;
pub mod jobs;
mod keys;
pub mod leases;
pub mod ledger;
pub mod lists;
mod locks;
pub mod member_role;
pub mod models;
pub mod monitoring;
pub mod people;
mod pools;
pub mod queries;
pub mod records;
pub mod releases;
pub mod rules;
mod schema;
pub mod searches;
mod sessions;
pub mod shares;
pub mod sign_in;
pub mod sources;
pub mod studies;
mod unit;
pub mod uploads;
pub mod waiting_turns;

pub use entity::{
    account, campaign, finding, invitation, job, ledger_entry, list, model, program_key, record_table, release,
    release_key, release_promise, release_use, release_version, rule_tried, search, session, share, source, study,
    upload, workspace,
};
pub use error::StoreError;

use sea_orm::ConnectionTrait;
use sea_orm_migration::MigratorTrait;

use pools::Pools;
use unit::Db;
pub use unit::Unit;

/// What every function of the store returns.
pub type Result<T> = std::result::Result<T, StoreError>;

/// A connection to the database; cheap to clone.
#[derive(Clone)]
pub struct Store {
    /// The connections that are used.
    db: Db,
    /// All of them.
    pools: pools::Pools,
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

impl Store {
    /// Connects, waiting a little for a server that is not ready yet, and brings
    /// the schema up to date.
    ///
    /// # Errors
    /// [`StoreError::Unreachable`] if no server answers.
    pub async fn open(url: &str) -> Result<Self> {
        let pools = Pools::open(url).await?;
        // Several servers that start at once do not change the tables at once.
        locks::alone(url, locks::Lock::Schema, async { Ok(schema::Migrator::up(&pools.jobs, None).await?) }).await?;
        Ok(Self {
            db: Db::Pool(pools.pages.clone()),
            pools,
            lease: None,
            questions: queries::SharedQuestions::default(),
        })
    }

    /// The same store, by the connections that jobs use.
    pub fn for_jobs(&self) -> Self {
        Self { db: Db::Pool(self.pools.jobs.clone()), ..self.clone() }
    }

    /// The same store, by the connections that files are written with that somebody takes away.
    pub fn for_exports(&self) -> Self {
        Self { db: Db::Pool(self.pools.exports.clone()), ..self.clone() }
    }

    /// The same store, by the connections that previews use.
    pub fn for_previews(&self) -> Self {
        Self { db: Db::Pool(self.pools.previews.clone()), ..self.clone() }
    }

    /// The same store, by the connections that a server shows with that it is alive.
    pub fn for_signs_of_life(&self) -> Self {
        Self { db: Db::Pool(self.pools.signs_of_life.clone()), ..self.clone() }
    }

    /// Whether the database answers now.
    ///
    /// # Errors
    /// [`StoreError::Unreachable`] if it does not.
    pub async fn ping(&self) -> Result<()> {
        self.db.execute_unprepared("SELECT 1").await?;
        pools::note_answer();
        Ok(())
    }

    /// The connections that rows are read and written by without SeaORM; within a unit those of pages, which see what
    /// was committed.
    fn pool(&self) -> &sea_orm::sqlx::PgPool {
        match &self.db {
            Db::Pool(pool) => pool.get_postgres_connection_pool(),
            Db::Unit(_) => self.pools.pages.get_postgres_connection_pool(),
        }
    }
}
