//! Accounts, and attempts to sign in.

use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, QueryFilter, TransactionTrait,
};

use crate::entity::{account, membership, workspace};
use crate::member_role::{self, MemberRole};
use crate::sign_in::{Denied, LONGEST_EMAIL, Origin, hash, may_be_email};
use crate::{Result, Store, StoreError};

/// Least length of a password.
const LEAST_PASSWORD: usize = 12;

/// Most characters of one: whoever sends more wants to keep us busy.
const LONGEST_PASSWORD: usize = 128;

/// Different characters of a password, fewest.
const LEAST_DIFFERENT: usize = 5;

/// A signed-in browser and what it may see.
#[derive(Debug, Clone)]
pub struct SignedIn {
    /// Who.
    pub account: account::Model,
    /// Where.
    pub workspace: workspace::Model,
    /// What they may do there.
    pub role: MemberRole,
    /// Proof for forms.
    pub csrf: String,
    /// Its session.
    pub session: i64,
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
        let account = new_account(email, password).await?;
        let transaction = self.db.begin().await?;
        let account = insert_account(&transaction, account).await?;
        let workspace =
            workspace::ActiveModel { name: Set(workspace_name.into()), made_up: Set(made_up), ..Default::default() }
                .insert(&transaction)
                .await?;
        member_role::join(&transaction, (workspace.id, account), MemberRole::Owner).await?;
        transaction.commit().await?;
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
        from: &Origin<'_>,
    ) -> Result<std::result::Result<String, Denied>> {
        match self.known(&email.trim().to_lowercase(), password, from).await? {
            Ok(account) => Ok(Ok(self.begin_session(account.id, from).await?)),
            Err(denied) => Ok(Err(denied)),
        }
    }

    /// Gives whoever is signed in another password, and ends their other sessions.
    ///
    /// # Errors
    /// [`StoreError::Refused`] for a weak password; a refusal of the present one is the inner error.
    pub async fn change_password(
        &self,
        signed_in: &SignedIn,
        [present, new]: [&str; 2],
        from: &Origin<'_>,
    ) -> Result<std::result::Result<(), Denied>> {
        let email = &signed_in.account.email;
        check_password(email, new)?;
        let account = match self.known(email, present, from).await? {
            Ok(account) => account,
            Err(denied) => return Ok(Err(denied)),
        };
        let password_hash = hash(new.to_owned()).await?;
        account::ActiveModel { password_hash: Set(password_hash), ..account.into() }.update(&self.db).await?;
        self.end_other_sessions(signed_in).await?;
        Ok(Ok(()))
    }
}

/// An account that can be made, its password hashed.
///
/// # Errors
/// [`StoreError::Refused`] for a short password, or what is no address.
pub(crate) async fn new_account(email: &str, password: &str) -> Result<account::ActiveModel> {
    let email = email.trim().to_lowercase();
    check_password(&email, password)?;
    if !email.contains('@') || email.chars().count() > LONGEST_EMAIL || !may_be_email(&email) {
        return Err(StoreError::Refused(format!("“{email}” is no e-mail address.")));
    }
    let password_hash = hash(password.to_owned()).await?;
    Ok(account::ActiveModel { email: Set(email), password_hash: Set(password_hash), ..Default::default() })
}

/// Whether a password is too easily guessed.
fn check_password(email: &str, password: &str) -> Result<()> {
    let refused = |sentence: String| Err(StoreError::Refused(sentence));
    let (letters, lower) = (password.chars().count(), password.to_lowercase());
    let mut different: Vec<char> = lower.chars().collect();
    different.sort_unstable();
    different.dedup();
    let name = email.split('@').next().unwrap_or(email);
    if letters < LEAST_PASSWORD {
        return refused(format!("A password needs at least {LEAST_PASSWORD} characters."));
    }
    if letters > LONGEST_PASSWORD {
        return refused(format!("A password has up to {LONGEST_PASSWORD} characters."));
    }
    if different.len() < LEAST_DIFFERENT || (name.chars().count() >= LEAST_DIFFERENT && lower.contains(name)) {
        return refused(format!(
            "This password is easily guessed. Take {LEAST_DIFFERENT} different characters or more, and leave your address out of it."
        ));
    }
    Ok(())
}

/// Makes an account; its key.
///
/// # Errors
/// [`StoreError::Refused`] for an address in use.
pub(crate) async fn insert_account(on: &impl ConnectionTrait, account: account::ActiveModel) -> Result<i64> {
    let email = account.email.clone().take().unwrap_or_default();
    if account::Entity::find().filter(account::Column::Email.eq(&email)).one(on).await?.is_some() {
        return Err(StoreError::Refused(format!("There is an account for {email} already.")));
    }
    Ok(account.insert(on).await?.id)
}
