//! What a column means, in somebody's words.

use sea_orm::entity::prelude::*;

/// What a column means, in somebody's words.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "meaning")]
pub struct Model {
    /// Its workspace.
    #[sea_orm(primary_key, auto_increment = false)]
    pub workspace_id: i64,
    /// The name of its table, whatever the version.
    #[sea_orm(primary_key, auto_increment = false)]
    pub table_name: String,
    /// The column.
    #[sea_orm(primary_key, auto_increment = false)]
    pub column_name: String,
    /// What it means.
    pub words: String,
    /// When it was written down.
    pub written_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
