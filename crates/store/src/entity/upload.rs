//! A file that was sent, until it has become a table.

use sea_orm::entity::prelude::*;

/// A file that was sent, until it has become a table.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "upload")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Where it belongs.
    pub workspace_id: i64,
    /// The study whose list it is, if it is one.
    pub study_id: Option<i64>,
    /// Its name as sent.
    pub file_name: String,
    /// Where the bytes are.
    pub path: String,
    /// Where it came from, if not from somebody's hand: “read from …”.
    pub origin: Option<String>,
    /// Bytes.
    pub size: i64,
    /// `scanning`, `ready`, `importing`, `done`, `failed` or `stopped`.
    pub state: String,
    /// What was found in it: a `pronoia_core::intake::Scan`.
    pub scan: Option<Json>,
    /// Why it failed.
    pub error: Option<String>,
    /// The table it became.
    pub table_id: Option<i64>,
    /// When it came.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
