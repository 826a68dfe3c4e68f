//! The rows for which a condition holds: how many they are, and a page of them.

use pronoia_core::expression::{Expression, SqlDialect};
use sea_orm::sqlx::{self, AssertSqlSafe, Postgres, Transaction};

use super::page::{SORT_IN_MEMORY, as_text};
use super::{ROW, Sort, StoredColumn, TablePage, quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store, StoreError};

/// How long the database may look for them.
const PATIENCE: &str = "SET LOCAL statement_timeout = '20s'";

/// A condition as the database is asked it, of a table that it calls `i`.
fn asked(columns: &[StoredColumn], condition: &Expression) -> Result<String> {
    condition.inputs().try_for_each(|name| field(columns, name).map(drop))?;
    Ok(condition.written(SqlDialect::PostgreSql, &|name| field(columns, name).unwrap_or_default()))
}

fn field(columns: &[StoredColumn], name: &str) -> Result<String> {
    let found = columns.iter().find(|c| c.name == name).ok_or(StoreError::NotFound("This column"))?;
    Ok(format!("i.{}", quoted(&found.field)))
}

fn refused(e: sqlx::Error) -> StoreError {
    match e {
        sqlx::Error::Database(e) if e.code().as_deref() == Some("57014") => StoreError::Refused(
            "Looking for these customers takes too long. Ask for less, or import fewer rows.".into(),
        ),
        // A number too large, and the like.
        sqlx::Error::Database(e) if e.code().is_some_and(|code| code.starts_with("22")) => {
            StoreError::Refused(format!("The condition cannot be computed for every row: {}.", e.message()))
        }
        e => e.into(),
    }
}

impl Store {
    /// How many rows there are for which a condition is true.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if the condition reads a column that is not there;
    /// [`StoreError::Refused`] if the database cannot work the condition out.
    pub async fn count_those(&self, table: &record_table::Model, condition: &Expression) -> Result<u64> {
        let holds = asked(&table.stored_columns()?, condition)?;
        let count = format!("SELECT count(*) FROM {} i WHERE {holds}", relation(table.workspace_id, table.id));
        let mut transaction = self.limited().await?;
        let total: i64 =
            sqlx::query_scalar(AssertSqlSafe(count)).fetch_one(&mut *transaction).await.map_err(refused)?;
        transaction.commit().await?;
        Ok(total.unsigned_abs())
    }

    /// Rows `offset..offset + limit` of those for which a condition is true, in the order asked for.
    ///
    /// # Errors
    /// As [`Store::count_those`], and if there is no column to sort by.
    pub async fn those(
        &self,
        table: &record_table::Model,
        condition: &Expression,
        sort: &Sort,
        (offset, limit): (u64, u64),
    ) -> Result<TablePage> {
        let columns = table.stored_columns()?;
        let (holds, by) = (asked(&columns, condition)?, field(&columns, &sort.column)?);
        let direction = if sort.descending { "DESC" } else { "ASC" };
        let (row, relation) = (quoted(ROW), relation(table.workspace_id, table.id));
        let fields: Vec<String> = columns.iter().map(|c| format!("t.{}", quoted(&c.field))).collect();
        let page = format!(
            "SELECT t.{row}, {} FROM (SELECT i.{row} AS at, {by} AS by FROM {relation} i WHERE {holds} \
             ORDER BY {by} {direction} NULLS LAST, i.{row} LIMIT $1 OFFSET $2) k \
             JOIN {relation} t ON t.{row} = k.at ORDER BY k.by {direction} NULLS LAST, k.at",
            fields.join(", ")
        );
        let mut transaction = self.limited().await?;
        let found = sqlx::query(AssertSqlSafe(page)).bind(limit as i64).bind(offset as i64);
        let found = found.fetch_all(&mut *transaction).await.map_err(refused)?;
        transaction.commit().await?;
        let rows = found.iter().map(|row| as_text(row, &columns)).collect::<std::result::Result<_, sqlx::Error>>()?;
        Ok(TablePage { rows })
    }

    /// A conversation that changes nothing and does not go on for ever.
    async fn limited(&self) -> Result<Transaction<'static, Postgres>> {
        let mut transaction = self.pool().begin().await?;
        for limit in [SORT_IN_MEMORY, PATIENCE, "SET TRANSACTION READ ONLY"] {
            sqlx::query(limit).execute(&mut *transaction).await?;
        }
        Ok(transaction)
    }
}
