//! Two tables put together by a key, or one rolled up to a row per key and put
//! beside the other. PostgreSQL does the work; every row of the first table
//! comes out at most once, so that no customer is multiplied.

use pronoia_core::Kind;
use pronoia_core::table::Storage;
use sea_orm::sqlx::{self, AssertSqlSafe, Row};
use serde::{Deserialize, Serialize};

use super::write::Importer;
use super::{ROW, StoredColumn, quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store, StoreError};

/// What is put together, and how.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Join {
    /// The table whose rows come out.
    pub first: i64,
    /// The table that is put beside it.
    pub second: i64,
    /// The key in the first table.
    pub first_key: String,
    /// The key in the second.
    pub second_key: String,
    /// What is taken of the second table.
    pub take: JoinKind,
    /// Whether rows of the first table without a partner come out too.
    pub keep_unmatched: bool,
    /// What the new table is called.
    pub name: String,
}

/// What is taken of the second table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "take")]
pub enum JoinKind {
    /// Its columns, from the first row of each key.
    Columns,
    /// One row per key: how many rows there are; of numbers the sum and the mean;
    /// of dates the latest; of others how many different values there are.
    RollUp {
        /// A date of the first table and one of the second: only rows up to the
        /// first date are counted, and the days from the latest one to it.
        as_of: Option<(String, String)>,
    },
}

/// The keys of two tables, counted before anything is put together.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KeyAccount {
    /// The first table.
    pub first: KeySide,
    /// The second table.
    pub second: KeySide,
}

/// The keys of one table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct KeySide {
    /// Rows.
    pub rows: u64,
    /// Rows without a key.
    pub missing: u64,
    /// Different keys.
    pub keys: u64,
    /// Keys with more than one row.
    pub repeated: u64,
    /// Keys that the other table has too.
    pub matched: u64,
    /// Rows with such a key.
    pub rows_matched: u64,
}

/// A column of the table that comes out, and how it is computed.
struct JoinedColumn {
    name: String,
    kind: Kind,
    sql: String,
    /// Whether it counts rows, so that it is 0 where there are none.
    counts: bool,
}

impl JoinedColumn {
    fn of(name: String, kind: Kind, sql: String) -> Self {
        Self { name, kind, sql, counts: false }
    }

    fn count(name: String, what: &str) -> Self {
        Self { name, kind: Kind::Number, sql: format!("count({what})::double precision"), counts: true }
    }
}

impl Store {
    /// Checks that the keys are there and can be compared.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if they are of different kinds.
    pub async fn check_keys(&self, workspace: i64, join: &Join) -> Result<()> {
        let (first, second) = (self.table(workspace, join.first).await?, self.table(workspace, join.second).await?);
        keys(&first, &second, join).map(|_| ())
    }

    /// Counts the keys of both tables.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the keys are of different kinds.
    pub async fn key_account(&self, workspace: i64, join: &Join) -> Result<KeyAccount> {
        let (first, second) = (self.table(workspace, join.first).await?, self.table(workspace, join.second).await?);
        let (a, b) = keys(&first, &second, join)?;
        let counted = |table: &record_table::Model, key: &StoredColumn| {
            format!(
                "SELECT {} AS k, count(*) AS n FROM {} GROUP BY 1",
                quoted(&key.field),
                relation(workspace, table.id)
            )
        };
        let side = |own: &str, other: &str| {
            format!(
                "coalesce(sum({own}.n), 0)::bigint, coalesce(sum({own}.n) FILTER (WHERE {own}.k IS NULL), 0)::bigint, \
                 count({own}.k), count({own}.k) FILTER (WHERE {own}.n > 1), \
                 count({own}.k) FILTER (WHERE {other}.k IS NOT NULL), \
                 coalesce(sum({own}.n) FILTER (WHERE {own}.k IS NOT NULL AND {other}.k IS NOT NULL), 0)::bigint"
            )
        };
        let sql = format!(
            "WITH a AS ({}), b AS ({}) SELECT {}, {} FROM a FULL JOIN b ON a.k = b.k",
            counted(&first, &a),
            counted(&second, &b),
            side("a", "b"),
            side("b", "a")
        );
        let row = sqlx::query(AssertSqlSafe(sql)).fetch_one(self.pool()).await?;
        let of = |from: usize| -> Result<KeySide> {
            let n = |at: usize| -> Result<u64> { Ok(row.try_get::<i64, _>(from + at)?.unsigned_abs()) };
            Ok(KeySide {
                rows: n(0)?,
                missing: n(1)?,
                keys: n(2)?,
                repeated: n(3)?,
                matched: n(4)?,
                rows_matched: n(5)?,
            })
        };
        Ok(KeyAccount { first: of(0)?, second: of(6)? })
    }

    /// Begins the table that comes out, and fills it. `cancelled` is asked now
    /// and then whether it should stop.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the keys do not suit each other;
    /// [`StoreError::Stopped`] once it was cancelled.
    pub async fn join(&self, workspace: i64, join: &Join, cancelled: impl Fn() -> bool) -> Result<Importer> {
        let (first, second) = (self.table(workspace, join.first).await?, self.table(workspace, join.second).await?);
        let (a, b) = keys(&first, &second, join)?;
        let own = first.stored_columns()?;
        let made = made(&second, join, &own, &b)?;
        let shape: Vec<(String, Kind)> =
            own.iter().map(|c| (c.name.clone(), c.kind)).chain(made.iter().map(|m| (m.name.clone(), m.kind))).collect();
        let fields: Vec<String> = own.iter().map(|c| format!("a.{}", quoted(&c.field))).collect();
        let beside: Vec<String> = (0..made.len()).map(|i| format!("m.c{i}")).collect();
        let computed: Vec<String> = made.iter().enumerate().map(|(i, m)| format!("{} AS c{i}", m.sql)).collect();
        let (from, to) = (relation(workspace, first.id), relation(workspace, second.id));
        let (key_a, key_b) = (quoted(&a.field), quoted(&b.field));
        let (grouped, on) = match &join.take {
            JoinKind::Columns => (
                format!(
                    "SELECT DISTINCT ON (b.{key_b}) b.{key_b} AS k, {} FROM {to} b WHERE b.{key_b} IS NOT NULL \
                     ORDER BY b.{key_b}, b.{}",
                    computed.join(", "),
                    quoted(ROW)
                ),
                format!("m.k = a.{key_a}"),
            ),
            JoinKind::RollUp { as_of: None } => (
                format!(
                    "SELECT b.{key_b} AS k, {} FROM {to} b WHERE b.{key_b} IS NOT NULL GROUP BY 1",
                    computed.join(", ")
                ),
                format!("m.k = a.{key_a}"),
            ),
            JoinKind::RollUp { as_of: Some((day, other)) } => {
                let day = quoted(&date(&own, day)?.field);
                let other = quoted(&date(&second.stored_columns()?, other)?.field);
                (
                    format!(
                        "SELECT x.{row} AS k, {} FROM {from} x JOIN {to} b ON b.{key_b} = x.{key_a} AND b.{other} <= x.{day} \
                         GROUP BY x.{row}, x.{day}",
                        computed.join(", "),
                        row = quoted(ROW)
                    ),
                    format!("m.k = a.{}", quoted(ROW)),
                )
            }
        };
        // Whoever has no row on the other side has none: a count of 0, not an unknown one.
        let beside: Vec<String> = beside
            .into_iter()
            .zip(&made)
            .map(|(c, m)| if m.counts { format!("coalesce({c}, 0)") } else { c })
            .collect();
        let kind = if join.keep_unmatched { "LEFT JOIN" } else { "JOIN" };
        let sql = format!(
            "SELECT row_number() OVER (ORDER BY a.{row}), {} FROM {from} a {kind} ({grouped}) m ON {on}",
            fields.into_iter().chain(beside).collect::<Vec<_>>().join(", "),
            row = quoted(ROW)
        );
        let mut importer = self.begin_import(workspace, &shape).await?;
        importer.fill(self, &sql, cancelled).await?;
        Ok(importer)
    }
}

/// The key columns, if they can be compared.
fn keys(
    first: &record_table::Model,
    second: &record_table::Model,
    join: &Join,
) -> Result<(StoredColumn, StoredColumn)> {
    let find = |table: &record_table::Model, name: &str| -> Result<StoredColumn> {
        let found = table.stored_columns()?.into_iter().find(|c| c.name == name);
        found.ok_or(StoreError::NotFound("The key"))
    };
    let (a, b) = (find(first, &join.first_key)?, find(second, &join.second_key)?);
    if a.kind.storage() != b.kind.storage() {
        return Err(StoreError::Refused(format!(
            "“{}” of {} is a {}, and “{}” of {} is a {}: their values can never be the same. Import one of the files again and read its key in the other's kind.",
            a.name, first.name, a.kind, b.name, second.name, b.kind
        )));
    }
    Ok((a, b))
}

fn date(columns: &[StoredColumn], name: &str) -> Result<StoredColumn> {
    let found = columns.iter().find(|c| c.name == *name).cloned().ok_or(StoreError::NotFound("The date"))?;
    if found.kind == Kind::Date {
        return Ok(found);
    }
    Err(StoreError::Refused(format!("“{name}” is a {}, not a date.", found.kind)))
}

/// What is taken of the second table, under names that the first does not have.
fn made(
    second: &record_table::Model,
    join: &Join,
    own: &[StoredColumn],
    key: &StoredColumn,
) -> Result<Vec<JoinedColumn>> {
    let mut made = Vec::new();
    let columns = second.stored_columns()?;
    let others = || columns.iter().filter(|c| c.name != key.name);
    match &join.take {
        JoinKind::Columns => {
            made.extend(others().map(|c| JoinedColumn::of(c.name.clone(), c.kind, format!("b.{}", quoted(&c.field)))))
        }
        JoinKind::RollUp { as_of } => {
            made.push(JoinedColumn::count(second.name.clone(), "*"));
            for c in others() {
                let field = format!("b.{}", quoted(&c.field));
                match c.kind.storage() {
                    Storage::Numbers => {
                        made.push(JoinedColumn::of(
                            format!("{} in all", c.name),
                            Kind::Number,
                            format!("sum({field})"),
                        ));
                        made.push(JoinedColumn::of(
                            format!("{} on average", c.name),
                            Kind::Number,
                            format!("avg({field})"),
                        ));
                    }
                    Storage::Dates => {
                        made.push(JoinedColumn::of(format!("latest {}", c.name), Kind::Date, format!("max({field})")));
                        if let Some((day, other)) = as_of
                            && *other == c.name
                        {
                            let day = date(own, day)?;
                            let since = format!("(x.{} - max({field}))::double precision", quoted(&day.field));
                            made.push(JoinedColumn::of(format!("days since {}", c.name), Kind::Number, since));
                        }
                    }
                    Storage::Words => {
                        made.push(JoinedColumn::count(format!("different {}", c.name), &format!("DISTINCT {field}")));
                    }
                }
            }
        }
    }
    let mut taken: Vec<String> = own.iter().map(|c| c.name.clone()).collect();
    for m in &mut made {
        while taken.contains(&m.name) {
            m.name = format!("{} ({})", m.name, second.name);
        }
        taken.push(m.name.clone());
    }
    Ok(made)
}
