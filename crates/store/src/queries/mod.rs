//! Ad hoc questions in SQL, which may only read the tables of one workspace.
//!
//! Each of these bounds would hold by itself. What reaches the database is written anew from what was understood
//! ([`rewrite`]), one statement by the extended protocol, in portions ([`cursor`]); as a role that can read the views
//! of its workspace, from which everything else was taken that a question must not reach ([`reader`],
//! [`protection`]); in a transaction that cannot write; within limits on time, memory, temporary files, rows and bytes.

pub(crate) mod cursor;
mod parse;
mod protection;
mod reader;
pub mod rewrite;

use std::ops::Range;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use pronoia_core::sentence::capital;
use sea_orm::sqlx::{self, Connection, PgConnection};
use thiserror::Error;

use crate::waiting_turns::Turns;
use crate::{Store, StoreError};
use cursor::Portions;
pub(crate) use parse::Parsed;
pub use protection::Unprotected;
pub use reader::Readable;
pub(crate) use reader::written;
use rewrite::{Relations, Rewritten};

/// The longest question, in characters.
pub const LONGEST: usize = 8_000;

/// Questions that a server answers at the same time, of all workspaces.
const AT_ONCE: usize = 4;

/// Questions that wait for one of those to be done.
const MOST_WAITING: usize = 8;

/// How long a question waits for its turn.
const LONGEST_WAIT: Duration = Duration::from_secs(10);

/// How much longer than its limit a question may take before its connection is ended from outside.
pub(crate) const GRACE: Duration = Duration::from_secs(1);

/// Bytes that are handed to the disk at a time.
const PIECE: usize = 1 << 18;

/// What a question may cost.
#[derive(Debug, Clone, Copy)]
pub struct QueryLimits {
    /// How long it may take.
    pub time: Duration,
    /// Rows that are fetched at most.
    pub rows: usize,
    /// Bytes that are fetched at most.
    pub bytes: usize,
}

/// Why a question has no answer.
#[derive(Debug, Error)]
pub enum QueryError {
    /// The question is wrong, or not allowed.
    #[error("{sentence}")]
    Question {
        /// What is wrong with it, and what to do.
        sentence: String,
        /// Where, in characters of the question.
        place: Option<Range<usize>>,
    },
    /// The store could not be asked.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<sqlx::Error> for QueryError {
    fn from(e: sqlx::Error) -> Self {
        Self::Store(e.into())
    }
}

/// An answer to look at.
#[derive(Debug, Clone, PartialEq)]
pub struct QueryAnswer {
    /// The names of its columns.
    pub columns: Vec<String>,
    /// Its rows; values as PostgreSQL writes them, none where one is missing.
    pub rows: Vec<Vec<Option<String>>>,
    /// Whether there was more than the limits allow.
    pub cut: bool,
    /// How long it took.
    pub took: Duration,
}

/// An answer that lies in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FiledAnswer {
    /// Its rows.
    pub rows: u64,
    /// Bytes of the file.
    pub bytes: u64,
    /// Whether there was more than the limits allow; what is there is whole rows.
    pub cut: bool,
}

/// Whether texts that a spreadsheet would compute are kept from it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Formulas {
    /// For a file that somebody takes away.
    Neutralised,
    /// For a file that becomes a table.
    AsTheyAre,
}

/// What a server knows about questions; shared by all its tasks.
#[derive(Debug)]
pub(crate) struct Questions {
    turns: Turns,
    readers: reader::Readers,
    pub(crate) protection: protection::Protection,
}

impl Default for Questions {
    fn default() -> Self {
        Self {
            turns: Turns::new(AT_ONCE, MOST_WAITING, LONGEST_WAIT, "Other questions are being answered."),
            readers: reader::Readers::default(),
            protection: protection::Protection::default(),
        }
    }
}

impl Store {
    /// Answers a question about the tables of a workspace, to be looked at.
    ///
    /// # Errors
    /// [`QueryError::Question`] with the place of the word that is wrong; [`StoreError::Busy`].
    pub async fn ask(&self, workspace_id: i64, sql: &str, limits: &QueryLimits) -> Result<QueryAnswer, QueryError> {
        let begun = Instant::now();
        let mut rows = Vec::new();
        let asking = async |portions: &mut Portions<'_>| {
            while portions.next(|row| rows.push(row.iter().map(|v| v.map(str::to_owned)).collect())).await? {}
            Ok(())
        };
        let (rewritten, cut) = self.asked(workspace_id, sql, limits, asking).await?;
        Ok(QueryAnswer { columns: rewritten.columns, rows, cut, took: begun.elapsed() })
    }

    /// Writes the whole answer to a question into a new file of delimited text with names on top.
    ///
    /// # Errors
    /// As [`Store::ask`]; [`StoreError::DiskFull`] and its like. Then there is no file.
    pub async fn ask_into(
        &self,
        workspace_id: i64,
        sql: &str,
        limits: &QueryLimits,
        (path, formulas): (&Path, Formulas),
    ) -> Result<FiledAnswer, QueryError> {
        let written = self.write_answer(workspace_id, sql, limits, (path, formulas)).await;
        if written.is_err()
            && let Err(e) = tokio::fs::remove_file(path).await
        {
            tracing::debug!("nothing was written yet: {e}");
        }
        written
    }

    async fn write_answer(
        &self,
        workspace_id: i64,
        sql: &str,
        limits: &QueryLimits,
        (path, formulas): (&Path, Formulas),
    ) -> Result<FiledAnswer, QueryError> {
        let (sender, mut pieces) = tokio::sync::mpsc::channel::<Vec<u8>>(2);
        let path = path.to_owned();
        let writing = tokio::task::spawn_blocking(move || -> std::io::Result<u64> {
            use std::io::Write;
            let (mut file, mut bytes) = (std::fs::File::create_new(&path)?, 0);
            while let Some(piece) = pieces.blocking_recv() {
                file.write_all(&piece)?;
                bytes += piece.len() as u64;
            }
            file.sync_all()?;
            Ok(bytes)
        });
        let mut count = 0;
        let asking = async |portions: &mut Portions<'_>| {
            let mut piece = Vec::with_capacity(PIECE);
            let names: Vec<Option<&str>> = portions.columns().iter().map(|name| Some(name.as_str())).collect();
            cursor::delimited(&names, formulas, &mut piece);
            loop {
                let more = portions.next(|row| {
                    cursor::delimited(row, formulas, &mut piece);
                    count += 1;
                });
                let more = more.await?;
                if piece.len() >= PIECE || !more {
                    // Nobody receives any more once the writing has failed, which says why.
                    if sender.send(std::mem::take(&mut piece)).await.is_err() || !more {
                        return Ok(());
                    }
                }
            }
        };
        let asked = self.asked(workspace_id, sql, limits, asking).await;
        drop(sender);
        let written = writing.await.map_err(|e| StoreError::Refused(format!("Writing broke off: {e}.")))?;
        let (_, cut) = asked?;
        let bytes = written.map_err(|e| match e.kind() {
            std::io::ErrorKind::StorageFull => StoreError::UploadsFull,
            _ => StoreError::Refused(format!("The answer could not be written down: {e}. Nothing was kept.")),
        })?;
        Ok(FiledAnswer { rows: count, bytes, cut })
    }

    /// Asks a question, and hands the portions of its answer to `take`; whether there was more.
    async fn asked(
        &self,
        workspace_id: i64,
        sql: &str,
        limits: &QueryLimits,
        take: impl AsyncFnOnce(&mut Portions<'_>) -> Result<(), QueryError>,
    ) -> Result<(Rewritten, bool), QueryError> {
        self.protected().await?;
        let parsed = Parsed::of(sql)?;
        let readable = self.relations(workspace_id).await?;
        let rewritten = rewrite::rewrite(&parsed, &readable)?;
        let _turn = self.questions.turns.take().await?;
        let (mut connection, backend) = self.reader(workspace_id, limits, &rewritten, &readable).await?;
        let answering = async {
            let mut portions = Portions::begin(&mut connection, &parsed, &rewritten, limits).await?;
            take(&mut portions).await?;
            Ok::<_, QueryError>(portions.is_cut())
        };
        let answered = tokio::time::timeout(limits.time + GRACE, answering).await;
        // Whatever still runs ends with its connection, or is ended.
        hang_up(connection).await;
        match answered {
            Ok(answered) => Ok((rewritten, answered?)),
            Err(_) => {
                self.end_backend(backend).await;
                Err(QueryError::Question { sentence: too_long(limits), place: None })
            }
        }
    }
}

/// Ends a connection without waiting for what it is at.
pub(crate) async fn hang_up(connection: PgConnection) {
    if let Err(e) = connection.close_hard().await {
        tracing::debug!("the other side hung up first: {e}");
    }
}

pub(crate) fn too_long(limits: &QueryLimits) -> String {
    format!(
        "It was stopped after {} seconds. Ask for less: fewer rows, a condition, or a sum instead of every row.",
        limits.time.as_secs()
    )
}

/// What the database says against a question, in words for who asked it; `before` characters stood in front of the
/// rewritten text.
pub(crate) fn refusal(
    e: &sqlx::Error,
    (parsed, rewritten): (&Parsed<'_>, &Rewritten),
    before: usize,
    limits: &QueryLimits,
) -> QueryError {
    let sqlx::Error::Database(reported) = e else {
        return match e {
            sqlx::Error::Io(_) | sqlx::Error::WorkerCrashed => QueryError::Store(StoreError::Unreachable),
            other => QueryError::Store(StoreError::logged(&other.to_string())),
        };
    };
    let pg = reported.downcast_ref::<sqlx::postgres::PgDatabaseError>();
    let place = pg.position().and_then(|position| match position {
        sqlx::postgres::PgErrorPosition::Original(at) => at.checked_sub(before + 1),
        sqlx::postgres::PgErrorPosition::Internal { .. } => None,
    });
    let place = place.and_then(|at| rewritten.text.origin(at));
    let place = place.map(|place| word_at(parsed.sql, place.start)).filter(|place| !place.is_empty());
    let sentence = match pg.code() {
        "57014" => too_long(limits),
        "53400" | "53200" | "54000" | "54001" | "54011" => {
            "It needs more space than one question may have. Ask for less: fewer rows or columns at a time.".to_owned()
        }
        "22001" => {
            "A text comes out that is longer than a question may make. Ask for less of it, or for fewer columns at a time.".to_owned()
        }
        "42501" => "A question may only read the tables that are open to it.".to_owned(),
        "25006" => "A question may only read; it cannot change anything.".to_owned(),
        // What is wrong with values, types and grammar is about the question itself.
        code if ["21", "22", "42", "0A"].iter().any(|class| code.starts_with(class)) => {
            let mut sentence = capital(pg.message());
            if !sentence.ends_with('.') {
                sentence.push('.');
            }
            sentence
        }
        _ => return QueryError::Store(StoreError::logged(pg.message())),
    };
    QueryError::Question { sentence, place }
}

/// The word that begins at a character of the text; empty at its end.
fn word_at(text: &str, at: usize) -> Range<usize> {
    let letters: Vec<char> = text.chars().collect();
    if at >= letters.len() {
        return letters.len()..letters.len();
    }
    let quote = letters[at];
    let length = if quote == '"' || quote == '\'' {
        letters[at + 1..].iter().position(|c| *c == quote).map_or(letters.len() - at, |end| end + 2)
    } else {
        let part_of_word = |c: &&char| c.is_alphanumeric() || **c == '_';
        letters[at..].iter().take_while(part_of_word).count().max(1)
    };
    at..at + length
}

/// Reads a question and writes it anew, for whoever wants to see what the database is told.
///
/// # Errors
/// [`QueryError::Question`] with the place of what is wrong or not allowed.
pub fn rewritten(sql: &str, relations: &dyn Relations) -> Result<Rewritten, QueryError> {
    Ok(rewrite::rewrite(&Parsed::of(sql)?, relations)?)
}

/// Questions that are answered, for everybody that shares a server.
pub(crate) type SharedQuestions = Arc<Questions>;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_is_marked_whole() {
        assert_eq!(word_at("SELECT fée FROM x", 7), 7..10);
        assert_eq!(word_at("SELECT \"a b\" FROM x", 7), 7..12);
        assert_eq!(word_at("SELECT", 6), 6..6);
    }
}
