//! Keys by which other programs do the work of a workspace.

use sea_orm::entity::prelude::*;

/// A key by which a program does the work of a workspace.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "program_key")]
pub struct Model {
    /// Its key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// The workspace that it opens.
    pub workspace_id: i64,
    /// Who made it, for whom its choices are entered.
    pub account_id: i64,
    /// Whose it is.
    pub name: String,
    /// Its digest.
    pub sha256: String,
    /// Its first letters.
    pub begins: String,
    /// When it was made.
    pub created_at: DateTimeUtc,
    /// Since when it opens nothing.
    pub revoked_at: Option<DateTimeUtc>,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
