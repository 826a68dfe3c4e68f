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
use tokio::sync::{Semaphore, SemaphorePermit};

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

/// An answer to look at.
#[derive(Debug, Clone, PartialEq)]
pub struct Answer {
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
    turn: Semaphore,
    waiting: Semaphore,
    readers: reader::Readers,
    pub(crate) protection: protection::Protection,
}

impl Default for Questions {
    fn default() -> Self {
        Self {
            turn: Semaphore::new(AT_ONCE),
            waiting: Semaphore::new(AT_ONCE + MOST_WAITING),
            readers: reader::Readers::default(),
            protection: protection::Protection::default(),
        }
    }
}

impl Questions {
    /// Waits for a turn, without holding anything meanwhile.
    async fn turn(&self) -> Result<(SemaphorePermit<'_>, SemaphorePermit<'_>), StoreError> {
        let busy = || StoreError::Busy("Other questions are being answered.");
        let place = self.waiting.try_acquire().map_err(|_| busy())?;
        match tokio::time::timeout(LONGEST_WAIT, self.turn.acquire()).await {
            Ok(Ok(turn)) => Ok((place, turn)),
            _ => Err(busy()),
        }
    }
}

impl Store {
    /// Answers a question about the tables of a workspace, to be looked at.
    ///
    /// # Errors
    /// [`QueryError::Question`] with the place of the word that is wrong; [`StoreError::Busy`].
    pub async fn ask(&self, workspace_id: i64, sql: &str, limits: &Limits) -> Result<Answer, QueryError> {
        let begun = Instant::now();
        let mut rows = Vec::new();
        let asking = async |portions: &mut Portions<'_>| {
            while portions.next(|row| rows.push(row.iter().map(|v| v.map(str::to_owned)).collect())).await? {}
            Ok(())
        };
        let (rewritten, cut) = self.asked(workspace_id, sql, limits, asking).await?;
        Ok(Answer { columns: rewritten.columns, rows, cut, took: begun.elapsed() })
    }

    /// Writes the whole answer to a question into a new file of delimited text with names on top.
    ///
    /// # Errors
    /// As [`Store::ask`]; [`StoreError::DiskFull`] and its like. Then there is no file.
    pub async fn ask_into(
        &self,
        workspace_id: i64,
        sql: &str,
        limits: &Limits,
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
        limits: &Limits,
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
        limits: &Limits,
        take: impl AsyncFnOnce(&mut Portions<'_>) -> Result<(), QueryError>,
    ) -> Result<(Rewritten, bool), QueryError> {
        self.protected().await?;
        let parsed = Parsed::of(sql)?;
        let readable = self.relations(workspace_id).await?;
        let rewritten = rewrite::rewrite(&parsed, &readable)?;
        let _turn = self.questions.turn().await?;
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

pub(crate) fn too_long(limits: &Limits) -> String {
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
    limits: &Limits,
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
    use super::rewrite::{Lookup, Relation};
    use super::*;

    /// One table with a few columns.
    struct Members;

    impl Relations for Members {
        fn find(&self, name: &[String]) -> Lookup {
            let columns = ["id", "fee", "Öffnung", "count"].map(str::to_owned).to_vec();
            match name {
                [name] if name == "members" => Lookup::Found(Relation {
                    schema: "ask_1".into(),
                    name: "table_7".into(),
                    columns,
                    is_renamed: true,
                }),
                _ => Lookup::Missing,
            }
        }
    }

    fn asked(sql: &str) -> Rewritten {
        rewritten(sql, &Members).unwrap_or_else(|e| panic!("{sql}: {e}"))
    }

    /// What is said, and the word that it is said of.
    fn refused(sql: &str) -> (String, Option<String>) {
        match rewritten(sql, &Members).map(|r| r.sql().to_owned()).expect_err(sql) {
            QueryError::Question { sentence, place } => {
                let marked = place.map(|p| sql.chars().skip(p.start).take(p.len()).collect());
                (sentence, marked)
            }
            QueryError::Store(e) => panic!("{e}"),
        }
    }

    #[test]
    fn a_question_is_written_anew_with_every_name_looked_up() {
        let one = asked("select ID, m.fee AS \"The fee\" from MEMBERS m where \"Öffnung\" = 'it''s' -- )\n;");
        assert_eq!(
            one.sql(),
            "SELECT \"id\" AS \"id\", \"m\".\"fee\" AS \"The fee\" FROM \"ask_1\".\"table_7\" AS \"m\"(\"id\", \"fee\", \"Öffnung\", \"count\") WHERE (\"Öffnung\" = 'it''s')"
        );
        assert_eq!(one.columns, ["id", "The fee"]);
        let all =
            asked("SELECT *, count(*) OVER () FROM members a JOIN members b USING (id) ORDER BY fee DESC LIMIT 3");
        assert_eq!(all.columns, ["id", "fee", "Öffnung", "count", "fee", "Öffnung", "count", "count"]);
        assert!(all.sql().contains("AS \"a\"(") && all.sql().contains("AS \"b\"("), "{}", all.sql());
    }

    #[test]
    fn literals_of_every_kind_come_out_in_one_form() {
        for sql in ["SELECT $$a'b\\c$$", "SELECT $t$a'b\\c$t$", "SELECT E'a\\'b\\\\c'", "SELECT 'a''b\\c'"] {
            assert!(asked(sql).sql().contains(" E'a''b\\\\c'"), "{sql}: {}", asked(sql).sql());
        }
        assert!(refused("SELECT $€$,' $€$ AS x) TO STDOUT; ROLLBACK; COPY (SELECT 1 --'").0.len() > 10);
    }

    #[test]
    fn names_that_postgresql_would_make_up_are_given() {
        let columns = asked(
            "SELECT 1, fee + 1, fee::text, upper('a'), CASE WHEN TRUE THEN 1 END, CASE WHEN TRUE THEN 1 ELSE fee END, DATE '2026-01-01', (SELECT fee FROM members LIMIT 1), coalesce(fee, 0), EXTRACT(year FROM now()), TRUE, EXISTS (SELECT 1), 'x'::varchar(3) FROM members",
        );
        let expected = [
            "?column?", "?column?", "fee", "upper", "case", "fee", "date", "fee", "coalesce", "extract", "bool",
            "exists", "varchar",
        ];
        assert_eq!(columns.columns, expected);
    }

    #[test]
    fn columns_that_are_not_there_are_no_calls_of_functions() {
        // PostgreSQL takes table.function for a call of the function.
        for (sql, word) in [
            ("SELECT m.to_json FROM members m", "to_json"),
            ("SELECT members.array_agg FROM members", "array_agg"),
            ("SELECT m.ctid FROM members m", "ctid"),
            ("SELECT xmin FROM members", "xmin"),
            ("SELECT fees FROM members", "fees"),
            ("SELECT (SELECT x.json_agg FROM (SELECT 1 AS a) x) FROM (SELECT 1 AS json_agg) x", "json_agg"),
        ] {
            let (sentence, marked) = refused(sql);
            assert!(sentence.starts_with("There is no column") && marked.as_deref() == Some(word), "{sql}: {sentence}");
        }
        assert!(refused("SELECT fees FROM members").0.contains("Perhaps fee is meant"));
        assert!(refused("SELECT members FROM members").0.contains("is a table"));
        assert!(asked("SELECT members.count FROM members").sql().contains("\"members\".\"count\""));
    }

    #[test]
    fn everything_else_is_refused_where_it_stands() {
        assert!(refused("SELECT 1; DROP TABLE t").0.contains("second statement"));
        for sql in [
            "DROP TABLE t",
            "INSERT INTO t VALUES (1)",
            "SELECT * INTO x FROM t",
            "COPY t TO '/tmp/x'",
            "SET ROLE x",
            "WITH x AS (DELETE FROM t RETURNING 1) SELECT 1",
            "SELECT * FROM members FOR UPDATE",
        ] {
            assert!(refused(sql).0.contains("Only a SELECT"), "{sql}: {}", refused(sql).0);
        }
        for (sql, word) in [
            ("SELECT 'é' || pg_sleep(1)", "pg_sleep"),
            ("SELECT pg_catalog.lo_create(1)", "pg_catalog"),
            ("SELECT \"Lo_Import\"('x')", "\"Lo_Import\""),
            ("SELECT set_config('a', 'b', true)", "set_config"),
            ("SELECT table_to_xml('members', true, true, '')", "table_to_xml"),
            ("SELECT string_agg('a', 'b')", "string_agg"),
            ("SELECT repeat('a', 1000000000)", "repeat"),
            ("SELECT public.lower('a')", "public"),
            ("SELECT * FROM pg_class", "pg_class"),
            ("SELECT * FROM information_schema.tables", "information_schema"),
            ("SELECT * FROM members_seq", "members_seq"),
            ("SELECT * FROM pg_ls_dir('/')", "pg_ls_dir"),
            ("SELECT current_user", "current_user"),
            ("SELECT 1::regclass", "1"),
            ("SELECT 1 WHERE 1 @> 2", "@"),
        ] {
            let (sentence, marked) = refused(sql);
            assert!(
                marked.as_deref().is_some_and(|m| word.starts_with(m) || m.starts_with(word)),
                "{sql}: {sentence} {marked:?}"
            );
        }
        for sql in [
            "WITH RECURSIVE x AS (SELECT 1 UNION ALL SELECT * FROM x) SELECT * FROM x",
            "SELECT (ROW(1, 2)).f1",
            "SELECT ARRAY[1, 2]",
            "SELECT * FROM members NATURAL JOIN members b",
            "SELECT 'a' ~ '(x{255}){255}'",
            "SELECT lpad('a', 1000000000)",
            "SELECT replace(\"Öffnung\", 'a', \"Öffnung\") FROM members",
            "SELECT $1",
            "SELECT count(id, DISTINCT fee) FROM members",
            "TABLE members",
            "SELECT 'a' COLLATE \"de-x-icu\"",
        ] {
            assert!(rewritten(sql, &Members).is_err(), "{sql}");
        }
        let (_, marked) = refused("SELECT id\nFROM members\nWHERE id = = 3");
        assert_eq!(marked.as_deref(), Some("="));
        let deep = format!("SELECT {}1{}", "(".repeat(500), ")".repeat(500));
        assert!(refused(&deep).0.contains("cannot be read"));
        assert!(refused("").0.contains("no question"));
        assert!(refused("SELECT 'a\0b'").0.contains("no text holds"));
        let many = vec!["SELECT DISTINCT 1"; 45].join(" UNION ");
        assert!(refused(&many).0.contains("places"), "{}", refused(&many).0);
    }

    #[test]
    fn a_long_chain_of_operators_is_no_depth() {
        let long = format!("SELECT 1 FROM members WHERE {}", vec!["id = 1"; 700].join(" OR "));
        assert!(asked(&long).sql().matches(" OR ").count() == 699);
        let sums = format!("SELECT {}", vec!["1"; 3_000].join("+"));
        assert_eq!(asked(&sums).sql().matches(" + ").count(), 2_999);
    }

    #[test]
    fn expressions_that_multiply_are_refused() {
        let doubled = |times: usize| {
            let steps = (1..times).map(|n| format!(", d{n} AS (SELECT x + x AS x FROM d{})", n - 1));
            format!(
                "WITH d0 AS (SELECT fee AS x FROM members){} SELECT x FROM d{}",
                steps.collect::<String>(),
                times - 1
            )
        };
        assert!(rewritten(&doubled(8), &Members).is_ok());
        assert!(refused(&doubled(25)).0.contains("again and again"));
        let nested = (0..25).fold("members".to_owned(), |inner, n| {
            format!("(SELECT fee + fee AS fee FROM {inner} {}) AS t{n}", if n == 0 { "AS m" } else { "" })
        });
        assert!(refused(&format!("SELECT fee FROM {nested}")).0.contains("again and again"));
        assert!(rewritten("SELECT count(*) FROM members GROUP BY CUBE (id, fee), ROLLUP (count)", &Members).is_ok());
        let cubes = "SELECT count(*) FROM members GROUP BY CUBE (id, fee, \"Öffnung\"), CUBE (id, fee)";
        assert!(refused(cubes).0.contains("groups in 32 ways"));
    }

    #[test]
    fn texts_that_grow_are_limited() {
        let sql = asked("SELECT \"Öffnung\" || 'x' || \"Öffnung\", replace(\"Öffnung\", 'a', 'bbbb') FROM members");
        assert_eq!(sql.sql().matches("1000004, false").count(), 3, "{}", sql.sql());
        assert!(sql.sql().contains("250004, false"), "{}", sql.sql());
    }

    #[test]
    fn a_word_is_marked_whole() {
        assert_eq!(word_at("SELECT fée FROM x", 7), 7..10);
        assert_eq!(word_at("SELECT \"a b\" FROM x", 7), 7..12);
        assert_eq!(word_at("SELECT", 6), 6..6);
    }
}
