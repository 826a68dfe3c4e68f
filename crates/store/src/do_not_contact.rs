//! Who is not to be contacted, whatever a policy says.

use sea_orm::sea_query::OnConflict;
use sea_orm::{ActiveValue::Set, EntityTrait};

use crate::entity::do_not_contact::{ActiveModel, Column, Entity, Model};
use crate::{Result, Store, StoreError, record_table};

impl Store {
    /// Where it stands who is not to be contacted in a workspace, if anybody said so.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn do_not_contact(&self, workspace_id: i64) -> Result<Option<Model>> {
        Ok(Entity::find_by_id(workspace_id).one(&self.db).await?)
    }

    /// Says that the customers of a table, by one of its columns, are not to be contacted; with nothing, that
    /// everybody may be.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if the table has no such column.
    pub async fn set_do_not_contact(
        &self,
        (workspace_id, account_id): (i64, i64),
        by: Option<(&record_table::Model, &str)>,
    ) -> Result<()> {
        let Some((table, column)) = by else {
            Entity::delete_by_id(workspace_id).exec(&self.db).await?;
            return Ok(());
        };
        if !table.names()?.iter().any(|name| name == column) {
            return Err(StoreError::NotFound("This column"));
        }
        let row = ActiveModel {
            workspace_id: Set(workspace_id),
            table_name: Set(table.name.clone()),
            by_column: Set(column.to_owned()),
            account_id: Set(Some(account_id)),
            said_at: Set(chrono::Utc::now()),
        };
        let replace = OnConflict::column(Column::WorkspaceId)
            .update_columns([Column::TableName, Column::ByColumn, Column::AccountId, Column::SaidAt])
            .to_owned();
        Entity::insert(row).on_conflict(replace).exec_without_returning(&self.db).await?;
        Ok(())
    }
}
