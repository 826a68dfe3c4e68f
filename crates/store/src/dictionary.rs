//! What the columns of tables mean, in the analyst's words.

use std::collections::HashMap;

use sea_orm::sea_query::OnConflict;
use sea_orm::{ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter};

use crate::entity::meaning;
use crate::{Result, Store, StoreError};

/// The longest explanation of a column, in characters.
const LONGEST: usize = 500;

impl Store {
    /// What is written down of the columns of a table, by column.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn meanings(&self, workspace_id: i64, table_name: &str) -> Result<HashMap<String, String>> {
        let rows = meaning::Entity::find()
            .filter(meaning::Column::WorkspaceId.eq(workspace_id))
            .filter(meaning::Column::TableName.eq(table_name))
            .all(&self.db)
            .await?;
        Ok(rows.into_iter().map(|row| (row.column_name, row.words)).collect())
    }

    /// Writes down what a column means; nothing is left of it if the words are empty.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the words are too long.
    pub async fn set_meaning(&self, workspace_id: i64, table_name: &str, column: &str, words: &str) -> Result<()> {
        if words.chars().count() > LONGEST {
            return Err(StoreError::Refused(format!("Say in at most {LONGEST} letters what the column means.")));
        }
        let key = (workspace_id, table_name.to_owned(), column.to_owned());
        if words.is_empty() {
            meaning::Entity::delete_by_id(key).exec(&self.db).await?;
            return Ok(());
        }
        let row = meaning::ActiveModel {
            workspace_id: Set(workspace_id),
            table_name: Set(key.1),
            column_name: Set(key.2),
            words: Set(words.to_owned()),
            written_at: Set(chrono::Utc::now()),
        };
        let replace = OnConflict::columns([
            meaning::Column::WorkspaceId,
            meaning::Column::TableName,
            meaning::Column::ColumnName,
        ])
        .update_columns([meaning::Column::Words, meaning::Column::WrittenAt])
        .to_owned();
        meaning::Entity::insert(row).on_conflict(replace).exec_without_returning(&self.db).await?;
        Ok(())
    }
}
