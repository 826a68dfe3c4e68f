//! Customers of a scored list added up by the groups of a column.

use sea_orm::sqlx::{self, AssertSqlSafe, Row};

use super::{quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store, StoreError};

/// A group of customers.
#[derive(Debug, Clone, PartialEq)]
pub struct ActedGroup {
    /// Its value; none for those without one.
    pub label: Option<String>,
    /// How many they are.
    pub rows: u64,
    /// How many of them are to be acted on.
    pub acted: u64,
    /// What that is expected to gain.
    pub gain: f64,
}

impl Store {
    /// The mean of a column over those to be acted on; none if they are none.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if the table does not have one of the columns.
    pub async fn mean_of_acted(&self, table: &record_table::Model, of: &str, decision: &str) -> Result<Option<f64>> {
        let columns = table.stored_columns()?;
        let field = |name: &str| {
            let found = columns.iter().find(|c| c.name == name).ok_or(StoreError::NotFound("A column of the list"))?;
            Ok::<_, StoreError>(quoted(&found.field))
        };
        let sql = format!(
            "SELECT avg({})::float8 FROM {} WHERE {} = 'act'",
            field(of)?,
            relation(table.workspace_id, table.id),
            field(decision)?
        );
        Ok(sqlx::query_scalar(AssertSqlSafe(sql)).fetch_one(self.pool()).await?)
    }

    /// Adds up by the values of a column who is acted on, and what that gains where there is such a
    /// column.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if the table does not have one of the columns.
    pub async fn acted_by_group(
        &self,
        table: &record_table::Model,
        by: &str,
        decision: &str,
        gain: Option<&str>,
    ) -> Result<Vec<ActedGroup>> {
        let columns = table.stored_columns()?;
        let field = |name: &str| {
            let found = columns.iter().find(|c| c.name == name).ok_or(StoreError::NotFound("A column of the list"))?;
            Ok::<_, StoreError>(quoted(&found.field))
        };
        let (by, decision) = (field(by)?, field(decision)?);
        let gain = gain.map(field).transpose()?.unwrap_or("0::float8".into());
        let sql = format!(
            "SELECT {by}, count(*), count(*) FILTER (WHERE {decision} = 'act'), \
             coalesce(sum({gain}) FILTER (WHERE {decision} = 'act'), 0)::float8 FROM {} GROUP BY {by}",
            relation(table.workspace_id, table.id)
        );
        let found = sqlx::query(AssertSqlSafe(sql)).fetch_all(self.pool()).await?;
        let group = |row: &sqlx::postgres::PgRow| {
            Ok(ActedGroup {
                label: row.try_get(0)?,
                rows: row.try_get::<i64, _>(1)?.unsigned_abs(),
                acted: row.try_get::<i64, _>(2)?.unsigned_abs(),
                gain: row.try_get(3)?,
            })
        };
        Ok(found.iter().map(group).collect::<std::result::Result<_, sqlx::Error>>()?)
    }
}
