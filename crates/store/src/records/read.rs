//! Rows out: whole columns for the computation, pages for the eye.

use futures_util::TryStreamExt;
use pronoia_core::Table;
use pronoia_core::table::Storage;
use sea_orm::sqlx::{self, AssertSqlSafe, PgConnection, Row};

use super::{ROW, StoredColumn, copy, quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store, StoreError};

/// Lets a sort of the keys of a few million rows stay in memory.
const SORT_IN_MEMORY: &str = "SET LOCAL work_mem = '128MB'";

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
pub struct Page {
    /// Row numbers in the order of the source, and values by column; none is missing.
    pub rows: Vec<(i64, Vec<Option<String>>)>,
}

impl Store {
    /// All rows of the columns asked for, in the order of the source.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] for a column that the table does not have.
    pub async fn columns(&self, table: &record_table::Model, names: Option<&[String]>) -> Result<Table> {
        let mut columns = table.stored_columns()?;
        if let Some(names) = names {
            columns.retain(|c| names.contains(&c.name));
            if columns.len() < names.len() {
                return Err(StoreError::NotFound("A column of the table"));
            }
        }
        let mut connection = self.pool().acquire().await?;
        read(&mut connection, table.workspace_id, table.id, &columns, None).await
    }

    /// The first rows of the columns asked for, in the order of the source.
    ///
    /// # Errors
    /// As [`Store::columns`].
    pub async fn first_rows(&self, table: &record_table::Model, names: &[String], most: u64) -> Result<Table> {
        let mut columns = table.stored_columns()?;
        columns.retain(|c| names.contains(&c.name));
        let mut connection = self.pool().acquire().await?;
        read(&mut connection, table.workspace_id, table.id, &columns, Some(most)).await
    }

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
    ) -> Result<Page> {
        let columns = table.stored_columns()?;
        let (row, relation) = (quoted(ROW), relation(table.workspace_id, table.id));
        // What lies beyond the middle is found sooner from the other end.
        let limit = limit.min((table.rows as u64).saturating_sub(offset));
        let beyond = (table.rows as u64).saturating_sub(offset.saturating_add(limit));
        let turned = sort.is_some() && beyond < offset;
        let offset = if turned { beyond } else { offset };
        // Only what is sorted by is sorted; the other columns are looked up for
        // the rows of the page.
        let (keys, order) = match sort {
            None => (row.clone(), vec![(row.clone(), "")]),
            Some(sort) => {
                let column =
                    columns.iter().find(|c| c.name == sort.column).ok_or(StoreError::NotFound("This column"))?;
                let field = quoted(&column.field);
                let direction = match (sort.descending, turned) {
                    (false, false) => "ASC NULLS LAST",
                    (true, false) => "DESC NULLS LAST",
                    (false, true) => "DESC NULLS FIRST",
                    (true, true) => "ASC NULLS FIRST",
                };
                (format!("{row}, {field}"), vec![(field, direction), (row.clone(), if turned { "DESC" } else { "" })])
            }
        };
        let order_of = |of: &str| -> String {
            let by: Vec<String> = order.iter().map(|(field, direction)| format!("{of}.{field} {direction}")).collect();
            by.join(", ")
        };
        let fields: Vec<String> = columns.iter().map(|c| format!("t.{}", quoted(&c.field))).collect();
        let sql = format!(
            "SELECT t.{row}, {} FROM (SELECT {keys} FROM {relation} i ORDER BY {} LIMIT $1 OFFSET $2) k \
             JOIN {relation} t ON t.{row} = k.{row} ORDER BY {}",
            fields.join(", "),
            order_of("i"),
            order_of("k"),
        );
        let mut transaction = self.pool().begin().await?;
        // A sort that spills to disk takes several times as long.
        sqlx::query(SORT_IN_MEMORY).execute(&mut *transaction).await?;
        let page = sqlx::query(AssertSqlSafe(sql)).bind(limit as i64).bind(offset as i64);
        let mut found = page.fetch_all(&mut *transaction).await?;
        if turned {
            found.reverse();
        }
        transaction.commit().await?;
        let rows = found
            .iter()
            .map(|row| {
                let values = columns
                    .iter()
                    .enumerate()
                    .map(|(i, c)| {
                        Ok(match c.kind.storage() {
                            Storage::Numbers => {
                                row.try_get::<Option<f64>, _>(i + 1)?.map(pronoia_core::table::written_number)
                            }
                            Storage::Words => row.try_get::<Option<String>, _>(i + 1)?,
                            Storage::Dates => {
                                row.try_get::<Option<chrono::NaiveDate>, _>(i + 1)?.map(|d| d.to_string())
                            }
                        })
                    })
                    .collect::<std::result::Result<_, sqlx::Error>>()?;
                Ok((row.try_get::<i64, _>(0)?, values))
            })
            .collect::<std::result::Result<_, sqlx::Error>>()?;
        Ok(Page { rows })
    }
}

pub(super) async fn read(
    connection: &mut PgConnection,
    workspace_id: i64,
    table_id: i64,
    columns: &[StoredColumn],
    most: Option<u64>,
) -> Result<Table> {
    if columns.is_empty() {
        return Ok(Table::default());
    }
    let fields: Vec<String> = columns.iter().map(|c| quoted(&c.field)).collect();
    let limit = most.map(|n| format!(" LIMIT {n}")).unwrap_or_default();
    let sql = format!(
        "COPY (SELECT {} FROM {} ORDER BY {}{limit}) TO STDOUT (FORMAT binary)",
        fields.join(", "),
        relation(workspace_id, table_id),
        quoted(ROW)
    );
    let mut decoder = copy::Decoder::new(columns);
    let mut stream = connection.copy_out_raw(&sql).await?;
    while let Some(piece) = stream.try_next().await? {
        decoder.push(&piece)?;
    }
    drop(stream);
    decoder.finish()
}
