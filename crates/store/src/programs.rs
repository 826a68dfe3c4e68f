//! Programs that do the work of a workspace with a key.

use chrono::Utc;
use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};

use crate::entity::program_key;
use crate::keys;
use crate::{Result, Store, StoreError};

impl Store {
    /// Makes a key to a workspace; gives it in the clear, which is never possible again.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn add_program_key(&self, (workspace_id, account_id): (i64, i64), name: &str) -> Result<String> {
        let made = keys::make("pw");
        let row = program_key::ActiveModel {
            workspace_id: Set(workspace_id),
            account_id: Set(account_id),
            name: Set(name.into()),
            sha256: Set(made.sha256),
            begins: Set(made.begins),
            ..Default::default()
        };
        row.insert(&self.db).await?;
        Ok(made.key)
    }

    /// The keys to a workspace, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn program_keys(&self, workspace_id: i64) -> Result<Vec<program_key::Model>> {
        let of_workspace = program_key::Entity::find().filter(program_key::Column::WorkspaceId.eq(workspace_id));
        Ok(of_workspace.order_by_desc(program_key::Column::Id).all(&self.db).await?)
    }

    /// Makes a key open nothing any more.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it is to another workspace.
    pub async fn revoke_program_key(&self, workspace_id: i64, id: i64) -> Result<()> {
        let key = program_key::Entity::find_by_id(id).one(&self.db).await?;
        let key = key.filter(|key| key.workspace_id == workspace_id).ok_or(StoreError::NotFound("This key"))?;
        if key.revoked_at.is_none() {
            let revoked =
                program_key::ActiveModel { id: Set(id), revoked_at: Set(Some(Utc::now())), ..Default::default() };
            revoked.update(&self.db).await?;
        }
        Ok(())
    }

    /// What a key opens; nothing if there is no such key, or it was revoked.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn program_of(&self, key: &str) -> Result<Option<program_key::Model>> {
        let found = program_key::Entity::find().filter(program_key::Column::Sha256.eq(keys::digest(key)));
        Ok(found.one(&self.db).await?.filter(|key| key.revoked_at.is_none()))
    }
}
