//! The rows for which a condition holds: how many they are, and a page of them.

use pronoia_core::expression::{Dialect, Expression};
use sea_orm::sqlx::{self, AssertSqlSafe};

use super::page::{SORT_IN_MEMORY, as_text};
use super::{Page, ROW, Sort, quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store, StoreError};

/// How long the database may look for them.
const PATIENCE: &str = "SET LOCAL statement_timeout = '20s'";

impl Store {
    /// Rows `offset..offset + limit` of those for which a condition is true, in the order asked for,
    /// and how many they are in all.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is no column to sort by, or one that the condition reads;
    /// [`StoreError::Refused`] if the database cannot work the condition out.
    pub async fn those(
        &self,
        table: &record_table::Model,
        condition: &Expression,
        sort: &Sort,
        (offset, limit): (u64, u64),
    ) -> Result<(Page, u64)> {
        let columns = table.stored_columns()?;
        let field = |name: &str| {
            let found = columns.iter().find(|c| c.name == name).ok_or(StoreError::NotFound("This column"))?;
            Ok::<_, StoreError>(format!("i.{}", quoted(&found.field)))
        };
        condition.inputs().try_for_each(|name| field(name).map(drop))?;
        let holds = condition.written(Dialect::PostgreSql, &|name| field(name).unwrap_or_default());
        let direction = if sort.descending { "DESC" } else { "ASC" };
        let (row, relation) = (quoted(ROW), relation(table.workspace_id, table.id));
        let by = format!("{} {direction} NULLS LAST, i.{row}", field(&sort.column)?);
        let fields: Vec<String> = columns.iter().map(|c| format!("t.{}", quoted(&c.field))).collect();
        let page = format!(
            "SELECT t.{row}, {} FROM (SELECT i.{row}, row_number() OVER (ORDER BY {by}) AS at FROM {relation} i \
             WHERE {holds} ORDER BY {by} LIMIT $1 OFFSET $2) k JOIN {relation} t ON t.{row} = k.{row} ORDER BY k.at",
            fields.join(", ")
        );
        let count = format!("SELECT count(*) FROM {relation} i WHERE {holds}");
        let refused = |e: sqlx::Error| match e {
            sqlx::Error::Database(e) if e.code().as_deref() == Some("57014") => StoreError::Refused(
                "Looking for these customers takes too long. Ask for less, or bring in fewer rows.".into(),
            ),
            // A number too large, and the like.
            sqlx::Error::Database(e) if e.code().is_some_and(|code| code.starts_with("22")) => {
                StoreError::Refused(format!("The condition cannot be worked out for every row: {}.", e.message()))
            }
            e => e.into(),
        };
        let mut transaction = self.pool().begin().await?;
        for limit in [SORT_IN_MEMORY, PATIENCE, "SET TRANSACTION READ ONLY"] {
            sqlx::query(limit).execute(&mut *transaction).await?;
        }
        let total: i64 =
            sqlx::query_scalar(AssertSqlSafe(count)).fetch_one(&mut *transaction).await.map_err(refused)?;
        let found = sqlx::query(AssertSqlSafe(page)).bind(limit as i64).bind(offset as i64);
        let found = found.fetch_all(&mut *transaction).await.map_err(refused)?;
        transaction.commit().await?;
        let rows = found.iter().map(|row| as_text(row, &columns)).collect::<std::result::Result<_, sqlx::Error>>()?;
        Ok((Page { rows }, total.unsigned_abs()))
    }
}
