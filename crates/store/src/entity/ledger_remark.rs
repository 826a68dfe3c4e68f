//! What was remarked on an entry of a ledger, later.

use sea_orm::entity::prelude::*;

/// What was remarked on an entry of a ledger, later.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "ledger_remark")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Its entry.
    pub entry_id: i64,
    /// Who said it.
    pub account_id: Option<i64>,
    /// What was said; empty if only a file was added.
    pub said: String,
    /// What the file is called.
    pub file_name: Option<String>,
    /// The file.
    pub file: Option<Vec<u8>>,
    /// When.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
