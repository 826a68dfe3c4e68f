//! Accounts, sessions and attempts to sign in.

use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use chrono::{Duration, Utc};
use pronoia_core::model::hex;
use rand::RngExt;
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, Condition, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder,
    sea_query::OnConflict,
};
use sha2::{Digest, Sha256};

use crate::entity::{account, membership, session, sign_in_attempt, workspace};
use crate::{Result, Store, StoreError};

/// Failed attempts per address or e-mail within [`WINDOW_MINUTES`] before more are refused.
const MOST_ATTEMPTS: u64 = 10;

/// Minutes that a failed attempt is remembered.
const WINDOW_MINUTES: i64 = 15;

/// Hours that a session lasts.
const SESSION_HOURS: i64 = 12;

/// Least length of a password.
const LEAST_PASSWORD: usize = 10;

/// A signed-in browser and what it may see.
#[derive(Debug, Clone)]
pub struct SignedIn {
    /// Who.
    pub account: account::Model,
    /// Where.
    pub workspace: workspace::Model,
    /// Proof for forms.
    pub csrf: String,
}

/// Why somebody cannot sign in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Denied {
    /// Address or password are not right; it is not said which.
    Wrong,
    /// Too many attempts.
    TooMany,
}

impl Store {
    /// Makes an account with a workspace of its own.
    ///
    /// # Errors
    /// [`StoreError::Refused`] for a short password or an address in use.
    pub async fn create_account(
        &self,
        email: &str,
        password: &str,
        workspace_name: &str,
        made_up: bool,
    ) -> Result<i64> {
        if password.chars().count() < LEAST_PASSWORD {
            return Err(StoreError::Refused(format!("A password needs at least {LEAST_PASSWORD} characters.")));
        }
        let email = email.trim().to_lowercase();
        if account::Entity::find().filter(account::Column::Email.eq(&email)).one(&self.db).await?.is_some() {
            return Err(StoreError::Refused(format!("There is an account for {email} already.")));
        }
        let password_hash = hash(password.to_owned()).await?;
        let account =
            account::ActiveModel { email: Set(email), password_hash: Set(password_hash), ..Default::default() }
                .insert(&self.db)
                .await?;
        let workspace =
            workspace::ActiveModel { name: Set(workspace_name.into()), made_up: Set(made_up), ..Default::default() }
                .insert(&self.db)
                .await?;
        membership::Entity::insert(membership::ActiveModel {
            account_id: Set(account.id),
            workspace_id: Set(workspace.id),
        })
        .on_conflict(OnConflict::new().do_nothing().to_owned())
        .exec_without_returning(&self.db)
        .await?;
        Ok(workspace.id)
    }

    /// The workspace that an account belongs to.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it belongs to none.
    pub async fn workspace_of(&self, account_id: i64) -> Result<i64> {
        let found =
            membership::Entity::find().filter(membership::Column::AccountId.eq(account_id)).one(&self.db).await?;
        found.map(|membership| membership.workspace_id).ok_or(StoreError::NotFound("The workspace"))
    }

    /// The account of that address, if there is one.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn account(&self, email: &str) -> Result<Option<account::Model>> {
        Ok(account::Entity::find().filter(account::Column::Email.eq(email)).one(&self.db).await?)
    }

    /// Gives an account another address to sign in with.
    ///
    /// # Errors
    /// If the database does not answer, or the address is in use.
    pub async fn rename_account(&self, id: i64, email: &str) -> Result<()> {
        account::ActiveModel { id: Set(id), email: Set(email.into()), ..Default::default() }.update(&self.db).await?;
        Ok(())
    }

    /// Checks address and password and begins a session; gives its token.
    ///
    /// # Errors
    /// If the database does not answer; a refusal is the inner error.
    pub async fn sign_in(
        &self,
        email: &str,
        password: &str,
        from: &str,
    ) -> Result<std::result::Result<String, Denied>> {
        let email = email.trim().to_lowercase();
        let since = Utc::now() - Duration::minutes(WINDOW_MINUTES);
        let recent = sign_in_attempt::Entity::find()
            .filter(sign_in_attempt::Column::At.gt(since))
            .filter(
                Condition::any()
                    .add(sign_in_attempt::Column::Email.eq(&email))
                    .add(sign_in_attempt::Column::Address.eq(from)),
            )
            .count(&self.db)
            .await?;
        if recent >= MOST_ATTEMPTS {
            return Ok(Err(Denied::TooMany));
        }
        let account = self.account(&email).await?;
        // An unknown address takes as long as a wrong password.
        let stored = account.as_ref().map(|a| a.password_hash.clone());
        let right = verify(password.to_owned(), stored).await?;
        let Some(account) = account.filter(|_| right) else {
            sign_in_attempt::ActiveModel { email: Set(email), address: Set(from.into()), ..Default::default() }
                .insert(&self.db)
                .await?;
            return Ok(Err(Denied::Wrong));
        };
        let token = random_token();
        session::Entity::insert(session::ActiveModel {
            token_digest: Set(digest(&token)),
            account_id: Set(account.id),
            csrf: Set(random_token()),
            created_at: Set(Utc::now()),
            expires_at: Set(Utc::now() + Duration::hours(SESSION_HOURS)),
        })
        .exec_without_returning(&self.db)
        .await?;
        session::Entity::delete_many().filter(session::Column::ExpiresAt.lt(Utc::now())).exec(&self.db).await?;
        Ok(Ok(token))
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
        Ok(workspace.map(|workspace| SignedIn { account, workspace, csrf: session.csrf }))
    }

    /// Ends a session.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn sign_out(&self, token: &str) -> Result<()> {
        session::Entity::delete_by_id(digest(token)).exec(&self.db).await?;
        Ok(())
    }
}

fn digest(token: &str) -> String {
    hex(&Sha256::digest(token.as_bytes()))
}

fn random_token() -> String {
    hex(&rand::rng().random::<[u8; 32]>())
}

async fn hash(password: String) -> Result<String> {
    let refuse = |what: String| StoreError::Refused(what);
    tokio::task::spawn_blocking(move || Argon2::default().hash_password(password.as_bytes()).map(|h| h.to_string()))
        .await
        .map_err(|e| refuse(e.to_string()))?
        .map_err(|e| refuse(e.to_string()))
}

async fn verify(password: String, stored: Option<String>) -> Result<bool> {
    tokio::task::spawn_blocking(move || match stored {
        Some(stored) => PasswordHash::new(&stored)
            .is_ok_and(|hash| Argon2::default().verify_password(password.as_bytes(), &hash).is_ok()),
        None => Argon2::default().hash_password(password.as_bytes()).is_err(),
    })
    .await
    .map_err(|e| StoreError::Refused(e.to_string()))
}
