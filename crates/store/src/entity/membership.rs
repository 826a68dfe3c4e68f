//! Who belongs to which workspace.

use sea_orm::entity::prelude::*;

/// Who belongs to which workspace.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "membership")]
pub struct Model {
    /// The account.
    #[sea_orm(primary_key, auto_increment = false)]
    pub account_id: i64,
    /// The workspace.
    #[sea_orm(primary_key, auto_increment = false)]
    pub workspace_id: i64,
    /// What they may do there: a word of [`crate::member_role::MemberRole`].
    pub role: String,
    /// Since when.
    pub joined_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
