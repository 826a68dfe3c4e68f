//! The answer to a question, fetched in portions by the extended protocol.

use futures_util::TryStreamExt;
use sea_orm::sqlx::{self, AssertSqlSafe, Executor, PgConnection, Row, SqlSafeStr};

use super::rewrite::{MOST_MEMORY_USERS, Rewritten};
use super::{Formulas, Parsed, QueryError, QueryLimits, refusal};

/// Bytes that a portion should come to.
const PORTION: usize = 1 << 20;

/// Rows of a portion, at most.
const MOST_IN_PORTION: usize = 2_000;

/// The longest value, in characters.
const LONGEST_VALUE: usize = 1_000_000;

/// The characters that the values of one row may come to.
const LONGEST_ROW: usize = 16_000_000;

/// Memory, in kB, that sorting and hashing in one question may take together.
const SORTING: usize = 32 << 10;

/// What is said before the question, on a connection made for it.
const PREPARE: &str = "BEGIN READ ONLY";

/// The settings under which a question is answered.
///
/// They are told one by one: a server of an older version does not know all of them.
pub(crate) async fn settle(
    connection: &mut PgConnection,
    limits: &QueryLimits,
    memory_users: usize,
) -> Result<(), sqlx::Error> {
    let work_memory = (SORTING / (memory_users.min(MOST_MEMORY_USERS) + 1)).clamp(256, 4 << 10);
    let version = connection.server_version_num().unwrap_or(0);
    let mut settings = vec![
        ("statement_timeout", limits.time.as_millis().to_string()),
        ("lock_timeout", "2s".to_owned()),
        ("idle_in_transaction_session_timeout", "60s".to_owned()),
        ("work_mem", format!("{work_memory}kB")),
        ("temp_buffers", "800kB".to_owned()),
        ("max_parallel_workers_per_gather", "0".to_owned()),
        ("jit", "off".to_owned()),
        ("cursor_tuple_fraction", "1".to_owned()),
        ("standard_conforming_strings", "on".to_owned()),
        ("search_path", "pg_catalog, pg_temp".to_owned()),
    ];
    if version >= 130_000 {
        settings.push(("hash_mem_multiplier", "1".to_owned()));
    }
    if version >= 140_000 {
        // Work ends soon after whoever asked is gone.
        settings.push(("client_connection_check_interval", "1s".to_owned()));
    }
    for (name, value) in settings {
        let list = value.split(", ").map(|part| format!("'{part}'")).collect::<Vec<_>>().join(", ");
        connection.execute(sqlx::query(AssertSqlSafe(format!("SET {name} = {list}")))).await?;
    }
    Ok(())
}

/// An answer that is being fetched.
pub(crate) struct Portions<'c> {
    connection: &'c mut PgConnection,
    asked: (&'c Parsed<'c>, &'c Rewritten),
    limits: QueryLimits,
    rows: usize,
    bytes: usize,
    /// The longest row so far, by which the next portion is measured.
    widest: usize,
    /// Rows of the next portion.
    portion: usize,
    cut: bool,
}

impl<'c> Portions<'c> {
    /// Asks, within a transaction that cannot write.
    pub async fn begin(
        connection: &'c mut PgConnection,
        parsed: &'c Parsed<'c>,
        rewritten: &'c Rewritten,
        limits: &QueryLimits,
    ) -> Result<Self, QueryError> {
        connection.execute(sqlx::query(PREPARE)).await?;
        // Every value comes as text of a limited length.
        let names: Vec<String> = (1..=rewritten.columns.len()).map(|n| format!("c{n}")).collect();
        let longest = LONGEST_VALUE.min(LONGEST_ROW / names.len().max(1));
        let value = |name: &String| {
            format!("pg_catalog.\"varchar\"(CAST(q.{name} AS text)::character varying, {}, false)::text", longest + 4)
        };
        let values: Vec<String> = names.iter().map(value).collect();
        let head = format!("SELECT {} FROM (", values.join(", "));
        let select = format!("{head}{}) AS q({})", rewritten.sql(), names.join(", "));
        let asked = (parsed, rewritten);
        let before = head.chars().count();
        let refused = |e: sqlx::Error| refusal(&e, asked, before, limits);
        // Looked at by itself first, so that a mistake is told with its place.
        (&mut *connection).prepare(AssertSqlSafe(select.clone()).into_sql_str()).await.map_err(refused)?;
        let declare = format!("DECLARE answer NO SCROLL CURSOR WITHOUT HOLD FOR {select}");
        connection.execute(sqlx::query(AssertSqlSafe(declare))).await.map_err(refused)?;
        Ok(Self { connection, asked, limits: *limits, rows: 0, bytes: 0, widest: 0, portion: 1, cut: false })
    }

    /// The names of what comes out.
    pub fn columns(&self) -> &'c [String] {
        &self.asked.1.columns
    }

    /// Whether there was more than the limits allow.
    pub fn is_cut(&self) -> bool {
        self.cut
    }

    /// Fetches some rows and hands them on one by one; whether there may be more.
    pub async fn next(&mut self, mut row: impl FnMut(&[Option<&str>])) -> Result<bool, QueryError> {
        let fetch = format!("FETCH FORWARD {} FROM answer", self.portion);
        let (asked, limits) = (self.asked, self.limits);
        let refused = |e: sqlx::Error| refusal(&e, asked, 0, &limits);
        let mut came = 0;
        let mut rows = sqlx::query(AssertSqlSafe(fetch)).fetch(&mut *self.connection);
        while let Some(fetched) = rows.try_next().await.map_err(refused)? {
            let values = (0..fetched.len()).map(|at| fetched.try_get::<Option<&str>, _>(at));
            let values = values.collect::<Result<Vec<_>, _>>().map_err(refused)?;
            let bytes = values.iter().flatten().map(|value| value.len()).sum::<usize>() + values.len();
            if self.rows == self.limits.rows || self.bytes + bytes > self.limits.bytes {
                self.cut = true;
                return Ok(false);
            }
            row(&values);
            self.rows += 1;
            self.bytes += bytes;
            self.widest = self.widest.max(bytes);
            came += 1;
        }
        let more = came == self.portion;
        // It grows slowly, because a wide row may come after narrow ones.
        self.portion = (PORTION / self.widest.max(1)).clamp(1, (self.portion * 8).min(MOST_IN_PORTION));
        Ok(more)
    }
}

/// Adds a line of delimited text: what is missing is empty, an empty text is in quotes.
pub(super) fn delimited(values: &[Option<&str>], formulas: Formulas, line: &mut Vec<u8>) {
    for (at, value) in values.iter().enumerate() {
        if at > 0 {
            line.push(b',');
        }
        let Some(value) = value else { continue };
        let value = match formulas {
            Formulas::Neutralised => pronoia_core::formulas::neutralised(value),
            Formulas::AsTheyAre => std::borrow::Cow::Borrowed(*value),
        };
        if value.is_empty() || value.contains(['"', ',', '\n', '\r']) {
            line.push(b'"');
            line.extend(value.replace('"', "\"\"").as_bytes());
            line.push(b'"');
        } else {
            line.extend(value.as_bytes());
        }
    }
    line.push(b'\n');
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_tell_missing_from_empty_and_hold_no_formulas() {
        let values = [Some("a"), None, Some(""), Some("x \"y\", z"), Some("=1+2"), Some("-3.5"), Some("-a")];
        let mut line = Vec::new();
        delimited(&values, Formulas::Neutralised, &mut line);
        assert_eq!(String::from_utf8(line).expect("text"), "a,,\"\",\"x \"\"y\"\", z\",'=1+2,-3.5,'-a\n");
        let mut line = Vec::new();
        delimited(&values, Formulas::AsTheyAre, &mut line);
        assert!(String::from_utf8(line).expect("text").ends_with(",=1+2,-3.5,-a\n"));
    }
}
