//! What can go wrong with storage, in words for the page.

use sea_orm::sqlx;
use sea_orm::{DbErr, RuntimeErr};
use thiserror::Error;

use crate::ledger::LedgerLine;
use crate::pools::answered_lately;

/// Why something could not be stored or found.
#[derive(Debug, Error)]
pub enum StoreError {
    /// No server answers. The caller may try again.
    #[error("The database does not answer. What was saved is safe; this page works again as soon as it is back.")]
    Unreachable,
    /// The disk under the database is full.
    #[error(
        "The disk under the database is full, so that nothing more can be saved. What was saved before is safe; free some space and try again."
    )]
    DiskFull,
    /// The disk that uploads lie on is full.
    #[error(
        "The disk that uploads lie on is full. Nothing was kept; whoever runs this server has to free some space, then try again."
    )]
    UploadsFull,
    /// Others are served first; the caller may try again soon.
    #[error("{0} Try again in a moment.")]
    Busy(&'static str),
    /// There is no such thing, or not in this workspace.
    #[error("{0} was not found. It may have been deleted, or the address is mistyped.")]
    NotFound(&'static str),
    /// A study was put away.
    #[error("This study is archived. The archive, at the foot of the page of questions, restores it.")]
    PutAway,
    /// A row does not fit into storage.
    #[error("{0}")]
    TooWide(String),
    /// Something else was asked for than is possible now.
    #[error("{0}")]
    Refused(String),
    /// Somebody changed the same in the meantime: by these entries, newest first.
    #[error("The study was changed while this page was open, in the place that you changed. Nothing was overwritten.")]
    Overtaken(Vec<LedgerLine>),
    /// It was stopped on request; nothing of it is left.
    #[error("Cancelled; nothing was saved.")]
    Stopped,
    /// The job has another worker by now, or has ended; nothing of what was to be written was.
    #[error("Another worker has taken over this job.")]
    LeaseLost,
    /// What is stored cannot be read; what is wrong with it.
    #[error("Something stored could not be read: {0}")]
    Damaged(String),
    /// Any other answer of the database. What it said stands in the log, under this number.
    #[error(
        "The database could not do this; nothing was changed. Whoever runs this server finds the reason in its log, under {0}."
    )]
    Database(String),
}

impl StoreError {
    /// An answer of a database that is for nobody but whoever reads the log.
    pub(crate) fn logged(message: &str) -> Self {
        let number = format!("{:08x}", rand::random::<u32>());
        tracing::error!("{number}: the database says: {message}");
        Self::Database(number)
    }
}

impl From<DbErr> for StoreError {
    fn from(e: DbErr) -> Self {
        match e {
            DbErr::ConnectionAcquire(_) => no_connection(),
            DbErr::Conn(RuntimeErr::SqlxError(e))
            | DbErr::Exec(RuntimeErr::SqlxError(e))
            | DbErr::Query(RuntimeErr::SqlxError(e)) => of_sqlx(&e),
            DbErr::Conn(_) => Self::Unreachable,
            other => Self::logged(&other.to_string()),
        }
    }
}

impl From<sqlx::Error> for StoreError {
    fn from(e: sqlx::Error) -> Self {
        of_sqlx(&e)
    }
}

impl From<serde_json::Error> for StoreError {
    fn from(e: serde_json::Error) -> Self {
        Self::Damaged(e.to_string())
    }
}

/// Nobody had a connection to give: because others have them all, or because the database gives none.
fn no_connection() -> StoreError {
    if answered_lately() { StoreError::Busy("Others are being served.") } else { StoreError::Unreachable }
}

fn of_sqlx(e: &sqlx::Error) -> StoreError {
    match e {
        sqlx::Error::PoolTimedOut => no_connection(),
        // A conversation that breaks off while it begins is told as one that makes no sense.
        sqlx::Error::Io(_)
        | sqlx::Error::Protocol(_)
        | sqlx::Error::PoolClosed
        | sqlx::Error::WorkerCrashed => StoreError::Unreachable,
        sqlx::Error::Database(d) => match d.code().as_deref() {
            Some("53100") => StoreError::DiskFull,
            Some("22021" | "22P05") => StoreError::Refused(
                "The text contains a character that cannot be stored (NUL). Remove it and send it again; nothing was changed.".into(),
            ),
            // It took longer than it may.
            Some("57014") => StoreError::Busy("It took too long while others were being served."),
            // Somebody else holds what was waited for.
            Some("55P03") => StoreError::Busy("Somebody else is changing the same."),
            // Shutting down, starting up, terminated by an administrator; asleep in the middle of a transaction.
            Some("57P01" | "57P02" | "57P03" | "53300" | "25P03") => StoreError::Unreachable,
            Some("54000" | "54011") => StoreError::TooWide(
                "A row of this table is wider than the storage can hold (about 8 000 bytes). Drop columns that you do not need, or split the file by subject.".into(),
            ),
            _ => StoreError::logged(d.message()),
        },
        other => StoreError::logged(&other.to_string()),
    }
}
