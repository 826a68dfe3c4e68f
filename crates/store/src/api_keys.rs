//! Programs that do the work of a workspace with a key.

use chrono::Utc;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, DatabaseTransaction, DbBackend, EntityTrait,
    QueryFilter, QueryOrder, Statement, Value,
};

use crate::entity::{membership, program_key};
use crate::keys;
use crate::member_role::MemberRole;
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

    /// What a key opens; nothing if there is no such key, it was revoked, or whoever it stands for does no work in
    /// the workspace any more.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn program_of(&self, key: &str) -> Result<Option<program_key::Model>> {
        let found = program_key::Entity::find().filter(program_key::Column::Sha256.eq(keys::digest(key)));
        let Some(key) = found.one(&self.db).await?.filter(|key| key.revoked_at.is_none()) else { return Ok(None) };
        let maker = membership::Entity::find_by_id((key.account_id, key.workspace_id)).one(&self.db).await?;
        let works = maker
            .map(|member| MemberRole::of(&member.role))
            .transpose()?
            .is_some_and(|role| role >= MemberRole::Analyst);
        Ok(Some(key).filter(|_| works))
    }
}

/// Ends the keys that a member made, to the workspace and to its releases; or puts them under somebody else's name.
pub(crate) async fn end_keys(
    on: &DatabaseTransaction,
    (workspace_id, account_id): (i64, i64),
    taken_over_by: Option<i64>,
) -> Result<()> {
    const OF_RELEASES: &str = "release_id IN (SELECT id FROM release WHERE workspace_id = $1)";
    let set = if taken_over_by.is_some() { "account_id = $3" } else { "revoked_at = coalesce($3, now())" };
    for (table, place) in [("program_key", "workspace_id = $1"), ("release_key", OF_RELEASES)] {
        let sql = format!("UPDATE {table} SET {set} WHERE {place} AND account_id = $2 AND revoked_at IS NULL");
        let third: Value = match taken_over_by {
            Some(owner) => owner.into(),
            None => Value::ChronoDateTimeUtc(None),
        };
        let values = [workspace_id.into(), account_id.into(), third];
        on.execute_raw(Statement::from_sql_and_values(DbBackend::Postgres, sql, values)).await?;
    }
    Ok(())
}
