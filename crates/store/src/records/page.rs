//! Rows out: pages for the eye.

use pronoia_core::table::Storage;
use sea_orm::sqlx::postgres::PgRow;
use sea_orm::sqlx::{self, AssertSqlSafe, PgConnection, Row};

use super::{ROW, StoredColumn, quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store, StoreError};

/// Lets a sort of the keys of a few million rows stay in memory.
pub(super) const SORT_IN_MEMORY: &str = "SET LOCAL work_mem = '128MB'";

/// Rows from which on a page in the middle is looked for between two values
/// only, and not in a sort of everything.
const MANY: i64 = 25_000;

/// About how many rows are looked at to find these values.
const LOOKED_AT: f64 = 40_000.0;

/// How far the values lie from the page on either side, as a share of the rows.
const APART: f64 = 0.05;

/// How rows are ordered on a page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sort {
    /// The column, by the analyst's name.
    pub column: String,
    /// From the greatest down.
    pub descending: bool,
}

/// A page of rows as text.
#[derive(Debug, Clone, PartialEq)]
pub struct TablePage {
    /// Row numbers in the order of the source, and values by column; none is missing.
    pub rows: Vec<(i64, Vec<Option<String>>)>,
}

/// Which keys are sorted to find a page.
#[derive(Default)]
struct Among {
    /// A condition on the keys, or nothing for all.
    condition: String,
    /// Rows that come before the page among them.
    offset: u64,
}

impl Store {
    /// Rows `offset..offset + limit` in the order asked for.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if the column to sort by does not exist.
    pub async fn page(
        &self,
        table: &record_table::Model,
        sort: Option<&Sort>,
        offset: u64,
        limit: u64,
    ) -> Result<TablePage> {
        let columns = table.stored_columns()?;
        // What lies beyond the middle is found sooner from the other end.
        let limit = limit.min((table.rows as u64).saturating_sub(offset));
        let beyond = (table.rows as u64).saturating_sub(offset.saturating_add(limit));
        let turned = sort.is_some() && beyond < offset;
        let mut among = Among { offset: if turned { beyond } else { offset }, ..Among::default() };
        let row = quoted(ROW);
        let mut transaction = self.pool().begin().await?;
        // A sort that spills to disk takes several times as long.
        sqlx::query(SORT_IN_MEMORY).execute(&mut *transaction).await?;
        // Only what is sorted by is sorted; the other columns are looked up for
        // the rows of the page.
        let (keys, order) = match sort {
            None => (row.clone(), vec![(row, "")]),
            Some(sort) => {
                let column =
                    columns.iter().find(|c| c.name == sort.column).ok_or(StoreError::NotFound("This column"))?;
                let field = quoted(&column.field);
                let up = sort.descending == turned;
                let page = (among.offset, limit);
                if let Some(near) = near(&mut transaction, table, &field, (up, turned), page).await? {
                    among = near;
                }
                let direction = match (up, turned) {
                    (true, false) => "ASC NULLS LAST",
                    (false, false) => "DESC NULLS LAST",
                    (false, true) => "DESC NULLS FIRST",
                    (true, true) => "ASC NULLS FIRST",
                };
                (format!("{row}, {field}"), vec![(field, direction), (row, if turned { "DESC" } else { "" })])
            }
        };
        let order_of = |of: &str| -> String {
            let by: Vec<String> = order.iter().map(|(field, direction)| format!("{of}.{field} {direction}")).collect();
            by.join(", ")
        };
        let fields: Vec<String> = columns.iter().map(|c| format!("t.{}", quoted(&c.field))).collect();
        let (row, relation) = (quoted(ROW), relation(table.workspace_id, table.id));
        let sql = format!(
            "SELECT t.{row}, {} FROM (SELECT {keys} FROM {relation} i{} ORDER BY {} LIMIT $1 OFFSET $2) k \
             JOIN {relation} t ON t.{row} = k.{row} ORDER BY {}",
            fields.join(", "),
            among.condition,
            order_of("i"),
            order_of("k"),
        );
        let page = sqlx::query(AssertSqlSafe(sql)).bind(limit as i64).bind(among.offset as i64);
        let mut found = page.fetch_all(&mut *transaction).await?;
        if turned {
            found.reverse();
        }
        transaction.commit().await?;
        let rows = found.iter().map(|row| as_text(row, &columns)).collect::<std::result::Result<_, sqlx::Error>>()?;
        Ok(TablePage { rows })
    }
}

/// Two values between which a page in the middle of a large table lies, as told
/// by some of its blocks, and how many rows come before the page from the first
/// of them on. None where all must be sorted: near the ends, in small tables,
/// where the page reaches into missing values, and where the blocks misled.
///
/// Missing values come first where the order is `turned`, and last otherwise.
async fn near(
    connection: &mut PgConnection,
    table: &record_table::Model,
    field: &str,
    (up, turned): (bool, bool),
    (offset, limit): (u64, u64),
) -> Result<Option<Among>> {
    if table.rows < MANY || (offset as f64) < 2.0 * APART * table.rows as f64 {
        return Ok(None);
    }
    let relation = relation(table.workspace_id, table.id);
    let percent = (100.0 * LOOKED_AT / table.rows as f64).min(100.0);
    let sample = format!("{relation} TABLESAMPLE SYSTEM ({percent}) REPEATABLE (1)");
    let there = format!("SELECT count({field})::float8 / greatest(count(*), 1) FROM {sample}");
    let there: f64 = sqlx::query_scalar(AssertSqlSafe(there)).fetch_one(&mut *connection).await?;
    let there = there * table.rows as f64;
    let missing_before = if turned { table.rows as f64 - there } else { 0.0 };
    let share = |row: f64| (row - missing_before) / there;
    let (from, to) = (share(offset as f64) - APART, share((offset + limit) as f64) + APART);
    if !(from > 0.0 && to < 1.0) {
        return Ok(None);
    }
    let (direction, before, within) = if up { ("ASC", "<", [">=", "<="]) } else { ("DESC", ">", ["<=", ">="]) };
    let bounds = format!(
        "SELECT percentile_disc(ARRAY[{from}, {to}]::float8[]) WITHIN GROUP (ORDER BY {field} {direction})::text[] \
         FROM {sample}"
    );
    let bounds: Option<Vec<Option<String>>> =
        sqlx::query_scalar(AssertSqlSafe(bounds)).fetch_one(&mut *connection).await?;
    let Some([Some(first), Some(last)]) = bounds.as_deref() else { return Ok(None) };
    let literal = |value: &str| format!("'{}'", value.replace('\'', "''"));
    let (first, last) = (literal(first), literal(last));
    let comes_before = if turned { format!("{field} IS NULL OR ") } else { String::new() };
    let count = format!(
        "SELECT count(*) FILTER (WHERE {comes_before}{field} {before} {first}), \
         count(*) FILTER (WHERE {field} {} {first} AND {field} {} {last}) FROM {relation}",
        within[0], within[1]
    );
    let (before, inside): (i64, i64) = sqlx::query_as(AssertSqlSafe(count)).fetch_one(&mut *connection).await?;
    let (before, inside) = (before as u64, inside as u64);
    if before > offset || offset + limit > before + inside {
        return Ok(None);
    }
    let condition = format!(" WHERE i.{field} {} {first} AND i.{field} {} {last}", within[0], within[1]);
    Ok(Some(Among { condition, offset: offset - before }))
}

/// The values of a row as text.
pub(super) fn as_text(
    row: &PgRow,
    columns: &[StoredColumn],
) -> std::result::Result<(i64, Vec<Option<String>>), sqlx::Error> {
    let value = |(i, c): (usize, &StoredColumn)| -> std::result::Result<Option<String>, sqlx::Error> {
        Ok(match c.kind.storage() {
            Storage::Numbers => row.try_get::<Option<f64>, _>(i + 1)?.map(pronoia_core::table::written_number),
            Storage::Words => row.try_get::<Option<String>, _>(i + 1)?,
            Storage::Dates => row.try_get::<Option<chrono::NaiveDate>, _>(i + 1)?.map(|d| d.to_string()),
        })
    };
    Ok((
        row.try_get::<i64, _>(0)?,
        columns.iter().enumerate().map(value).collect::<std::result::Result<_, sqlx::Error>>()?,
    ))
}
