//! Ad hoc questions in SQL, which may only read the tables of one workspace.
//!
//! Four bounds, each of which would hold by itself: the words of the question
//! are looked at before anybody runs it ([`guard`]); it runs as a role that can
//! read the views of its workspace and nothing else ([`reader`]); in a
//! transaction that cannot write; and against limits on time, temporary files,
//! rows and bytes.

mod guard;
mod reader;

use std::ops::Range;
use std::time::{Duration, Instant};

use futures_util::TryStreamExt;
use pronoia_core::sentence::capital;
use sea_orm::sqlx::{self, Connection, Executor, PgConnection};
use thiserror::Error;

use crate::{Store, StoreError};

pub(crate) use guard::only_select;
pub use reader::Readable;
pub(crate) use reader::written;

/// The longest question, in characters.
pub const LONGEST: usize = 8_000;

/// What a question may cost.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
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

/// An answer, as delimited text with a line of names at its head.
#[derive(Debug, Clone, PartialEq)]
pub struct Answer {
    /// The text, in UTF-8, commas between and quotes where needed.
    pub csv: Vec<u8>,
    /// Whether there was more than the limits allow; what is there is whole rows.
    pub cut: bool,
    /// How long it took.
    pub took: Duration,
}

impl Store {
    /// Answers a question about the tables of a workspace. A missing value is
    /// written as `missing`.
    ///
    /// # Errors
    /// [`QueryError::Question`] with the place of the word that is wrong.
    pub async fn ask(
        &self,
        workspace_id: i64,
        sql: &str,
        missing: &str,
        limits: &Limits,
    ) -> std::result::Result<Answer, QueryError> {
        let statement = only_select(sql)?;
        let mut connection = self.reader(workspace_id, limits).await?;
        let begun = Instant::now();
        let answered = fetch(&mut connection, statement, missing, limits).await;
        let took = begun.elapsed();
        // Whatever still runs ends with its connection.
        match connection.close_hard().await {
            Ok(()) | Err(_) => {}
        }
        let (csv, cut) = answered?;
        Ok(Answer { csv, cut, took })
    }
}

/// What stands before the question when it is run.
const BEFORE: &str = "COPY (";

/// Asks, within a transaction that cannot write, and reads what comes back.
pub(crate) async fn fetch(
    connection: &mut PgConnection,
    statement: &str,
    missing: &str,
    limits: &Limits,
) -> std::result::Result<(Vec<u8>, bool), QueryError> {
    connection.execute("BEGIN READ ONLY").await?;
    // A comment at the end of the question must not swallow the bracket.
    let null = missing.replace('\'', "''");
    let copy = format!("{BEFORE}{statement}\n) TO STDOUT (FORMAT csv, HEADER, NULL '{null}')");
    let refused = |e: sqlx::Error| refusal(&e, statement, BEFORE.len(), limits);
    let mut pieces = connection.copy_out_raw(&copy).await.map_err(refused)?;
    let (mut csv, mut lines) = (Vec::new(), Lines::default());
    while let Some(piece) = pieces.try_next().await.map_err(refused)? {
        let ends = lines.ends_in(&piece);
        // The first line holds the names.
        if lines.count > limits.rows + 1 || csv.len() + piece.len() > limits.bytes {
            let spare = (limits.rows + 1).saturating_sub(lines.count - ends.len());
            if let Some(end) = spare.checked_sub(1).and_then(|at| ends.get(at)) {
                csv.extend_from_slice(&piece[..=*end]);
            }
            return Ok((csv, true));
        }
        csv.extend_from_slice(&piece);
    }
    Ok((csv, false))
}

/// Ends of rows in delimited text that comes in pieces.
#[derive(Default)]
struct Lines {
    quoted: bool,
    count: usize,
}

impl Lines {
    fn ends_in(&mut self, piece: &[u8]) -> Vec<usize> {
        let mut ends = Vec::new();
        for (at, byte) in piece.iter().enumerate() {
            match byte {
                b'"' => self.quoted = !self.quoted,
                b'\n' if !self.quoted => ends.push(at),
                _ => {}
            }
        }
        self.count += ends.len();
        ends
    }
}

/// What the database says against a question, in words for who asked it;
/// `before` characters stood in front of the question.
pub(crate) fn refusal(e: &sqlx::Error, statement: &str, before: usize, limits: &Limits) -> QueryError {
    let sqlx::Error::Database(said) = e else {
        return match e {
            sqlx::Error::Io(_) | sqlx::Error::WorkerCrashed => QueryError::Store(StoreError::Unreachable),
            other => QueryError::Store(StoreError::Database(other.to_string())),
        };
    };
    let pg = said.downcast_ref::<sqlx::postgres::PgDatabaseError>();
    let place = pg.position().and_then(|position| match position {
        sqlx::postgres::PgErrorPosition::Original(at) => at.checked_sub(before + 1),
        sqlx::postgres::PgErrorPosition::Internal { .. } => None,
    });
    let place = place.map(|at| word_at(statement, at)).filter(|place| !place.is_empty());
    let sentence = match pg.code() {
        "57014" => format!(
            "It was stopped after {} seconds. Ask for less: fewer rows, a condition, or a sum instead of every row.",
            limits.time.as_secs()
        ),
        "53400" | "53200" | "54000" => {
            "It needs more space than one question may have. Ask for less: fewer rows or columns at a time.".to_owned()
        }
        "42501" => "A question may only read the tables that are open to it.".to_owned(),
        "25006" => "A question may only read; it cannot change anything.".to_owned(),
        _ => {
            let mut sentence = capital(pg.message());
            if !sentence.ends_with('.') {
                sentence.push('.');
            }
            if let Some(hint) = pg.hint() {
                sentence = format!("{sentence} {hint}");
            }
            sentence
        }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_end_where_no_quote_is_open() {
        let mut lines = Lines::default();
        assert_eq!(lines.ends_in(b"a,b\n1,\"x\ny"), [3]);
        assert_eq!(lines.ends_in(b"\"\n2,z\n"), [1, 5]);
        assert_eq!(lines.count, 3);
    }

    #[test]
    fn a_word_is_marked_whole() {
        assert_eq!(word_at("SELECT fée FROM x", 7), 7..10);
        assert_eq!(word_at("SELECT \"a b\" FROM x", 7), 7..12);
        assert_eq!(word_at("SELECT", 6), 6..6);
    }
}
