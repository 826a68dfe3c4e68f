//! Customer records: one real table per version, there whole or not at all.

mod append;
mod copy;
mod decision_diff;
mod filtered_page;
mod groups;
mod join;
mod page;
mod publish;
mod read;
mod write;

pub use append::{Append, AppendAccount};
pub use decision_diff::{Hands, Mover};
pub use groups::ActedGroup;
pub use join::{Join, JoinKind, KeyAccount, KeySide};
pub use page::{Sort, TablePage};
pub use read::RowParts;
pub use write::{DrawnCampaign, Importer, Label, ScoredList, SealedFor};

use pronoia_core::Kind;
use pronoia_core::profile::TableProfile;
use sea_orm::sqlx::{self, PgExecutor};
use sea_orm::{ColumnTrait, EntityTrait, QueryFilter, QueryOrder};
use serde::{Deserialize, Serialize};

use crate::entity::record_table;
use crate::{Result, Store, StoreError};

/// A column as it is stored.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredColumn {
    /// Its name, as the analyst knows it.
    pub name: String,
    /// Its name in the database: shorter than 64 bytes.
    pub field: String,
    /// What its values mean.
    pub kind: Kind,
}

/// Where a table came from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TableSource {
    /// In a sentence.
    pub sentence: String,
    /// Rows that were left out.
    pub rejected: u64,
    /// Cells that were taken as missing.
    pub misfit_cells: u64,
}

impl Store {
    /// The tables of a workspace that are not lists and not put away, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn tables(&self, workspace_id: i64) -> Result<Vec<record_table::Model>> {
        Ok(record_table::Entity::find()
            .filter(record_table::Column::WorkspaceId.eq(workspace_id))
            .filter(record_table::Column::IsList.eq(false))
            .filter(record_table::Column::PutAwayAt.is_null())
            .order_by_desc(record_table::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// The newest version of a table that was ever made under this name, unless it was put away or erased since:
    /// then an older one must not stand for it.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn newest_ever(&self, workspace_id: i64, name: &str) -> Result<Option<record_table::Model>> {
        let newest: Option<i32> =
            sqlx::query_scalar("SELECT newest FROM table_version WHERE workspace_id = $1 AND name = $2")
                .bind(workspace_id)
                .bind(name)
                .fetch_optional(self.pool())
                .await?;
        let there = self.newest_version(workspace_id, name).await?;
        Ok(there.filter(|table| Some(table.version) == newest))
    }

    /// The newest version of a table that is called so, if there is one that is not put away.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn newest_version(&self, workspace_id: i64, name: &str) -> Result<Option<record_table::Model>> {
        let named = self.tables(workspace_id).await?.into_iter().filter(|table| table.name == name);
        Ok(named.max_by_key(|table| table.version))
    }

    /// A table of this workspace.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn table(&self, workspace_id: i64, id: i64) -> Result<record_table::Model> {
        let found = record_table::Entity::find_by_id(id)
            .filter(record_table::Column::WorkspaceId.eq(workspace_id))
            .one(&self.db)
            .await?;
        found.ok_or(StoreError::NotFound("This table"))
    }
}

impl record_table::Model {
    /// Its columns.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn stored_columns(&self) -> Result<Vec<StoredColumn>> {
        Ok(serde_json::from_value(self.columns.clone())?)
    }

    /// The names and kinds of its columns, in their order.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn kinds(&self) -> Result<Vec<(String, Kind)>> {
        Ok(self.stored_columns()?.into_iter().map(|column| (column.name, column.kind)).collect())
    }

    /// The names of its columns, in their order.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn names(&self) -> Result<Vec<String>> {
        Ok(self.stored_columns()?.into_iter().map(|column| column.name).collect())
    }

    /// Its figures.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn figures(&self) -> Result<TableProfile> {
        Ok(serde_json::from_value(self.profile.clone())?)
    }

    /// Where it came from.
    ///
    /// # Errors
    /// [`StoreError::Damaged`].
    pub fn came_from(&self) -> Result<TableSource> {
        Ok(serde_json::from_value(self.source.clone())?)
    }
}

/// The schema and name of the table that holds the rows.
pub(crate) fn relation(workspace_id: i64, table_id: i64) -> String {
    format!("\"workspace_{workspace_id}\".\"table_{table_id}\"")
}

/// Whether there is a table or view of a name.
pub(crate) async fn is_there(on: impl PgExecutor<'_>, relation: &str) -> Result<bool> {
    Ok(sqlx::query_scalar("SELECT to_regclass($1) IS NOT NULL").bind(relation).fetch_one(on).await?)
}

/// A name in double quotes.
pub(crate) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// The column that keeps the order of the source.
const ROW: &str = "row_number";

/// Names that every table of the database has already.
const SYSTEM: [&str; 6] = ["tableoid", "xmin", "cmin", "xmax", "cmax", "ctid"];

/// Names for the database: the analyst's own where they fit, distinct, below 64 bytes.
fn fields_for<'a>(names: impl Iterator<Item = &'a str>) -> Vec<String> {
    let mut taken: Vec<String> = [&[ROW][..], &SYSTEM[..]].concat().into_iter().map(str::to_owned).collect();
    let own = taken.len();
    for (i, name) in names.enumerate() {
        let mut short = name.to_owned();
        while short.len() > 55 {
            short.pop();
        }
        let mut field = short.clone();
        let mut number = i + 1;
        while taken.contains(&field) || (field == short && short.len() < name.len()) {
            field = format!("{short}_{number}");
            number += 1;
        }
        taken.push(field);
    }
    taken.split_off(own)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_fit_the_database_and_stay_apart() {
        let long = "ä".repeat(60);
        let fields = fields_for([long.as_str(), "row_number", "fee", long.as_str()].into_iter());
        assert!(fields.iter().all(|f| f.len() < 64));
        let distinct: std::collections::BTreeSet<_> = fields.iter().collect();
        assert_eq!(distinct.len(), 4);
        assert_eq!(fields[2], "fee");
        assert_ne!(fields[1], ROW);
        assert_eq!(fields_for(["xmin", "Xmin", "ctid"].into_iter()), ["xmin_1", "Xmin", "ctid_3"]);
        assert_eq!(
            fields_for(["ctid_2", "ctid"].into_iter()),
            ["ctid_2", "ctid_3"],
            "a name that is made up is taken, too"
        );
    }
}
