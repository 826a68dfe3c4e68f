//! Who may do what in a workspace, and how others join.

use std::collections::HashMap;

use chrono::{Duration, Utc};
use sea_orm::sea_query::{Expr, LockType};
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, Condition, ConnectionTrait, EntityTrait, ModelTrait, QueryFilter,
    QueryOrder, QuerySelect, TransactionTrait,
};

use crate::accounts::{insert_account, new_account};
use crate::entity::{account, invitation, membership, session, workspace};
use crate::member_role::{MemberRole, join};
use crate::{Result, Store, StoreError, api_keys, keys, releases};

/// Days that a link to join is good for.
const DAYS: i64 = 7;

/// A member of a workspace.
#[derive(Debug, Clone)]
pub struct WorkspaceMember {
    /// Who.
    pub account: account::Model,
    /// What they may do.
    pub role: MemberRole,
    /// Since when they have been there.
    pub joined_at: chrono::DateTime<Utc>,
}

impl Store {
    /// The members of a workspace, in the order in which they joined.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn members(&self, workspace_id: i64) -> Result<Vec<WorkspaceMember>> {
        let of_workspace = membership::Entity::find().filter(membership::Column::WorkspaceId.eq(workspace_id));
        let rows = of_workspace.order_by_asc(membership::Column::AccountId).all(&self.db).await?;
        let accounts = account::Entity::find().filter(account::Column::Id.is_in(rows.iter().map(|row| row.account_id)));
        let mut accounts: HashMap<i64, account::Model> =
            accounts.all(&self.db).await?.into_iter().map(|account| (account.id, account)).collect();
        let member = |row: membership::Model| {
            let account = accounts.remove(&row.account_id)?;
            Some(MemberRole::of(&row.role).map(|role| WorkspaceMember { account, role, joined_at: row.joined_at }))
        };
        rows.into_iter().filter_map(member).collect()
    }

    /// Lets a member do more or less, or, without a role, nothing any more. With the role goes what they made by it:
    /// whoever leaves is signed out everywhere; the invitations of somebody who is no owner any more are good for
    /// nobody, and keys of somebody who does no work any more open nothing, unless an owner takes them over.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if they are no member; [`StoreError::Refused`] if nobody would be left who
    /// may say who may do what.
    pub async fn set_role(
        &self,
        (workspace_id, account_id): (i64, i64),
        role: Option<MemberRole>,
        keys_taken_over_by: Option<i64>,
    ) -> Result<()> {
        let transaction = self.db.begin().await?;
        // Two owners who take each other's role away at once wait for each other.
        let of_workspace = membership::Entity::find().filter(membership::Column::WorkspaceId.eq(workspace_id));
        let members = of_workspace.lock(LockType::Update).all(&transaction).await?;
        let is_owner = |member: &&membership::Model| member.role == MemberRole::Owner.word();
        let stays = members.iter().filter(is_owner).any(|member| member.account_id != account_id);
        let member = members.into_iter().find(|member| member.account_id == account_id);
        let member = member.ok_or(StoreError::NotFound("This member"))?;
        if role != Some(MemberRole::Owner) && !stays {
            return Err(StoreError::Refused(
                "The workspace would have no owner. Make somebody else an owner first.".into(),
            ));
        }
        match role {
            Some(role) => {
                let changed = membership::ActiveModel { role: Set(role.word().into()), ..member.into() };
                changed.update(&transaction).await?;
            }
            None => {
                member.delete(&transaction).await?;
                let of_account = session::Entity::delete_many().filter(session::Column::AccountId.eq(account_id));
                of_account.exec(&transaction).await?;
            }
        }
        if role != Some(MemberRole::Owner) {
            let of_account = invitation::Entity::update_many()
                .col_expr(invitation::Column::WithdrawnAt, Expr::value(Utc::now()))
                .filter(invitation::Column::WorkspaceId.eq(workspace_id))
                .filter(invitation::Column::InvitedBy.eq(account_id));
            of_account.filter(good()).exec(&transaction).await?;
        }
        if role < Some(MemberRole::Analyst) {
            api_keys::end_keys(&transaction, (workspace_id, account_id), keys_taken_over_by).await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// How many keys that still open something each member made.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn keys_by_maker(&self, workspace_id: i64) -> Result<HashMap<i64, usize>> {
        let mut keys = HashMap::new();
        for key in self.program_keys(workspace_id).await?.iter().filter(|key| key.revoked_at.is_none()) {
            *keys.entry(key.account_id).or_default() += 1;
        }
        for maker in releases::makers(&self.db, workspace_id).await? {
            *keys.entry(maker).or_default() += 1;
        }
        Ok(keys)
    }

    /// Makes a link by which somebody joins; gives its end in the clear, which is never possible again.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn invite(&self, (workspace, owner): (i64, i64), name: &str, role: MemberRole) -> Result<String> {
        let made = keys::make("join");
        let row = invitation::ActiveModel {
            workspace_id: Set(workspace),
            sha256: Set(made.sha256),
            role: Set(role.word().into()),
            name: Set(name.into()),
            invited_by: Set(owner),
            expires_at: Set(Utc::now() + Duration::days(DAYS)),
            ..Default::default()
        };
        row.insert(&self.db).await?;
        Ok(made.key)
    }

    /// Invitations that are still good, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn invitations(&self, workspace_id: i64) -> Result<Vec<invitation::Model>> {
        let of_workspace = invitation::Entity::find().filter(invitation::Column::WorkspaceId.eq(workspace_id));
        Ok(of_workspace.filter(good()).order_by_desc(invitation::Column::Id).all(&self.db).await?)
    }

    /// Makes a link good for nobody any more.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it is to another workspace, or is not good any more.
    pub async fn withdraw(&self, workspace_id: i64, id: i64) -> Result<()> {
        let of_workspace = invitation::Entity::find_by_id(id).filter(invitation::Column::WorkspaceId.eq(workspace_id));
        let found = of_workspace.filter(good()).one(&self.db).await?.ok_or(StoreError::NotFound("This invitation"))?;
        let withdrawn = invitation::ActiveModel { withdrawn_at: Set(Some(Utc::now())), ..found.into() };
        withdrawn.update(&self.db).await?;
        Ok(())
    }

    /// Where a link leads: the invitation and the workspace.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it is not good, or not any more.
    pub async fn invited(&self, key: &str) -> Result<(invitation::Model, workspace::Model)> {
        let by_key = invitation::Entity::find().filter(invitation::Column::Sha256.eq(keys::digest(key)));
        let found = by_key.filter(good()).one(&self.db).await?.ok_or(StoreError::NotFound("This invitation"))?;
        if !is_owner(&self.db, &found).await? {
            return Err(StoreError::NotFound("This invitation"));
        }
        let workspace = workspace::Entity::find_by_id(found.workspace_id).one(&self.db).await?;
        Ok((found, workspace.ok_or(StoreError::NotFound("The workspace"))?))
    }

    /// Joins by a link, with a new account.
    ///
    /// # Errors
    /// As [`Store::invited`]; [`StoreError::Refused`] for a short password or an address in use.
    pub async fn accept(&self, key: &str, (email, password): (&str, &str)) -> Result<()> {
        self.invited(key).await?;
        let account = new_account(email, password).await?;
        let transaction = self.db.begin().await?;
        // Of two who follow the same link at once, one waits here and finds it used.
        let by_key = invitation::Entity::find().filter(invitation::Column::Sha256.eq(keys::digest(key)));
        let found = by_key.filter(good()).lock(LockType::Update).one(&transaction).await?;
        let found = found.ok_or(StoreError::NotFound("This invitation"))?;
        if !is_owner(&transaction, &found).await? {
            return Err(StoreError::NotFound("This invitation"));
        }
        let account = insert_account(&transaction, account).await?;
        join(&transaction, (found.workspace_id, account), MemberRole::of(&found.role)?).await?;
        let used = invitation::ActiveModel { account_id: Set(Some(account)), ..found.into() };
        used.update(&transaction).await?;
        transaction.commit().await?;
        Ok(())
    }
}

/// Whether whoever invited may still do so; their role does not change before the end of a transaction.
async fn is_owner(db: &impl ConnectionTrait, invitation: &invitation::Model) -> Result<bool> {
    let inviter = membership::Entity::find()
        .filter(membership::Column::WorkspaceId.eq(invitation.workspace_id))
        .filter(membership::Column::AccountId.eq(invitation.invited_by));
    let inviter = inviter.lock(LockType::Share).one(db).await?;
    Ok(inviter.is_some_and(|member| member.role == MemberRole::Owner.word()))
}

/// Whether a link can still be followed.
fn good() -> Condition {
    Condition::all()
        .add(invitation::Column::AccountId.is_null())
        .add(invitation::Column::WithdrawnAt.is_null())
        .add(invitation::Column::ExpiresAt.gt(Utc::now()))
}
