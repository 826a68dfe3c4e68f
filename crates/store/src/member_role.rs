//! The roles of the members of a workspace.

use chrono::Utc;
use sea_orm::{ActiveValue::Set, ConnectionTrait, EntityTrait};

use crate::entity::membership;
use crate::{Result, StoreError};

/// What a member may do; each may do what the one before may.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum MemberRole {
    /// Look at everything.
    Reader,
    /// Do the work.
    Analyst,
    /// Say who may do what.
    Owner,
}

impl MemberRole {
    /// All of them, from the one who may do least.
    pub const ALL: [Self; 3] = [Self::Reader, Self::Analyst, Self::Owner];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Reader => "reader",
            Self::Analyst => "analyst",
            Self::Owner => "owner",
        }
    }

    /// The role that a word stands for.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if it stands for none.
    pub fn of(word: &str) -> Result<Self> {
        let found = Self::ALL.into_iter().find(|role| role.word() == word);
        found.ok_or_else(|| StoreError::Refused(format!("There is no role “{word}”: reader, analyst or owner.")))
    }
}

/// Makes an account a member.
pub(crate) async fn join(on: &impl ConnectionTrait, (workspace, account): (i64, i64), role: MemberRole) -> Result<()> {
    let member = membership::ActiveModel {
        account_id: Set(account),
        workspace_id: Set(workspace),
        role: Set(role.word().into()),
        joined_at: Set(Utc::now()),
    };
    membership::Entity::insert(member).exec_without_returning(on).await?;
    Ok(())
}
