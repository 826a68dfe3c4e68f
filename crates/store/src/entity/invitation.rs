//! A link by which somebody joins a workspace.

use sea_orm::entity::prelude::*;

/// A link by which somebody joins a workspace.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "invitation")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Where they join.
    pub workspace_id: i64,
    /// SHA-256 of the end of the link, in hexadecimal.
    pub sha256: String,
    /// What they may do there: a word of [`crate::member_role::MemberRole`].
    pub role: String,
    /// Whom it is for, as the owner wrote it down.
    pub name: String,
    /// The owner.
    pub invited_by: i64,
    /// When it was made.
    pub created_at: DateTimeUtc,
    /// Until when it is good.
    pub expires_at: DateTimeUtc,
    /// Who joined by it; a link is good for one.
    pub account_id: Option<i64>,
    /// When it was withdrawn.
    pub withdrawn_at: Option<DateTimeUtc>,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
