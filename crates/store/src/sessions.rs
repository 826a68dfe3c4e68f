//! Signed-in browsers.

use chrono::{Duration, Utc};
use pronoia_core::model::hex;
use rand::RngExt;
use sea_orm::{ActiveValue::NotSet, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};
use sha2::{Digest, Sha256};

use crate::accounts::SignedIn;
use crate::entity::{account, membership, session, workspace};
use crate::member_role::MemberRole;
use crate::sign_in::Origin;
use crate::{Result, Store, StoreError};

/// Hours that a session lasts.
const SESSION_HOURS: i64 = 12;

/// Letters kept of what a browser says that it is.
const LONGEST_AGENT: usize = 200;

impl Store {
    /// Begins a session; gives its token.
    pub(crate) async fn begin_session(&self, account: i64, from: &Origin<'_>) -> Result<String> {
        let token = random_token();
        session::Entity::insert(session::ActiveModel {
            token_digest: Set(digest(&token)),
            account_id: Set(account),
            csrf: Set(random_token()),
            created_at: Set(Utc::now()),
            expires_at: Set(Utc::now() + Duration::hours(SESSION_HOURS)),
            id: NotSet,
            address: Set(from.address.into()),
            agent: Set(from.agent.chars().filter(|c| !c.is_control()).take(LONGEST_AGENT).collect()),
        })
        .exec_without_returning(&self.db)
        .await?;
        session::Entity::delete_many().filter(session::Column::ExpiresAt.lt(Utc::now())).exec(&self.db).await?;
        self.forget_attempts().await?;
        Ok(token)
    }

    /// Who a session's token belongs to; none if unknown or over.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn signed_in(&self, token: &str) -> Result<Option<SignedIn>> {
        let found = session::Entity::find_by_id(digest(token))
            .filter(session::Column::ExpiresAt.gt(Utc::now()))
            .one(&self.db)
            .await?;
        let Some(session) = found else { return Ok(None) };
        let Some(account) = account::Entity::find_by_id(session.account_id).one(&self.db).await? else {
            return Ok(None);
        };
        let member = membership::Entity::find()
            .filter(membership::Column::AccountId.eq(account.id))
            .order_by_asc(membership::Column::WorkspaceId)
            .one(&self.db)
            .await?;
        let Some(member) = member else { return Ok(None) };
        let workspace = workspace::Entity::find_by_id(member.workspace_id).one(&self.db).await?;
        let role = MemberRole::of(&member.role)?;
        Ok(workspace.map(|workspace| SignedIn { account, workspace, role, csrf: session.csrf, session: session.id }))
    }

    /// Ends a session.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn sign_out(&self, token: &str) -> Result<()> {
        session::Entity::delete_by_id(digest(token)).exec(&self.db).await?;
        Ok(())
    }

    /// The sessions of an account that are not over, newest first.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn sessions(&self, account: i64) -> Result<Vec<session::Model>> {
        let of_account = session::Entity::find().filter(session::Column::AccountId.eq(account));
        let open = of_account.filter(session::Column::ExpiresAt.gt(Utc::now()));
        Ok(open.order_by_desc(session::Column::Id).all(&self.db).await?)
    }

    /// Ends a session of an account.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if the account has no such session.
    pub async fn end_session(&self, account: i64, id: i64) -> Result<()> {
        let ended = session::Entity::delete_many()
            .filter(session::Column::AccountId.eq(account))
            .filter(session::Column::Id.eq(id))
            .exec(&self.db)
            .await?;
        if ended.rows_affected == 0 { Err(StoreError::NotFound("This session")) } else { Ok(()) }
    }

    /// Ends all sessions of an account but the one that asks.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn end_other_sessions(&self, signed_in: &SignedIn) -> Result<()> {
        session::Entity::delete_many()
            .filter(session::Column::AccountId.eq(signed_in.account.id))
            .filter(session::Column::Id.ne(signed_in.session))
            .exec(&self.db)
            .await?;
        Ok(())
    }
}

fn digest(token: &str) -> String {
    hex(&Sha256::digest(token.as_bytes()))
}

fn random_token() -> String {
    hex(&rand::rng().random::<[u8; 32]>())
}
