//! Who is not to be contacted.

use sea_orm::entity::prelude::*;

/// Who is not to be contacted, in a workspace.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "do_not_contact")]
pub struct Model {
    /// Its workspace.
    #[sea_orm(primary_key, auto_increment = false)]
    pub workspace_id: i64,
    /// The name of the table whose newest version lists them.
    pub table_name: String,
    /// The column that they are told by.
    pub by_column: String,
    /// Who said so.
    pub account_id: Option<i64>,
    /// When.
    pub said_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
