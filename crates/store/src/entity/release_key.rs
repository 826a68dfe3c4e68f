//! What a program shows to call a release.

use sea_orm::entity::prelude::*;

/// What a program shows to call a release, as a digest.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "release_key")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// The release that it opens.
    pub release_id: i64,
    /// Who has it.
    pub name: String,
    /// Who made it, or took it over; nothing is known of those that 0.1.0 made.
    pub account_id: Option<i64>,
    /// Its digest (SHA-256, in hexadecimal).
    pub sha256: String,
    /// Its first letters, to tell keys apart.
    pub begins: String,
    /// Calls a minute that it is good for.
    pub per_minute: i32,
    /// When it was made.
    pub created_at: DateTimeUtc,
    /// Since when it opens nothing any more.
    pub revoked_at: Option<DateTimeUtc>,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
