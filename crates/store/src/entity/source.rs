//! A database that records are read from.

use sea_orm::entity::prelude::*;

/// A database that records are read from.
#[derive(Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "source")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Where it belongs.
    pub workspace_id: i64,
    /// What the analysts call it.
    pub name: String,
    /// Where it is.
    pub host: String,
    /// On which port it listens.
    pub port: i32,
    /// The database.
    pub database_name: String,
    /// Who Pronoia is there.
    pub account: String,
    /// A [`crate::sources::Encryption`] as a word.
    pub encryption: String,
    /// The password, sealed by a [`crate::sources::Vault`].
    pub sealed: Vec<u8>,
    /// What the account could change there, in words, when it was last looked at; empty if nothing.
    pub may_write: String,
    /// When it was entered.
    pub created_at: DateTimeUtc,
}

impl std::fmt::Debug for Model {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // What is sealed stays out of every log.
        f.debug_struct("source").field("id", &self.id).field("name", &self.name).finish_non_exhaustive()
    }
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
