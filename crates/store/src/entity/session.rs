//! A signed-in browser.

use sea_orm::entity::prelude::*;

/// A signed-in browser.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "session")]
pub struct Model {
    /// SHA-256 of the cookie, in hexadecimal.
    #[sea_orm(primary_key, auto_increment = false)]
    pub token_digest: String,
    /// Whose it is.
    pub account_id: i64,
    /// Proof that a form came from our page.
    pub csrf: String,
    /// When it began.
    pub created_at: DateTimeUtc,
    /// When it ends.
    pub expires_at: DateTimeUtc,
    /// What it is called by on pages.
    pub id: i64,
    /// The network address that it began from.
    pub address: String,
    /// What the browser says that it is.
    pub agent: String,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
