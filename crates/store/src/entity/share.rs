//! A link by which somebody without an account reads a statement.

use sea_orm::entity::prelude::*;

/// A link by which somebody without an account reads a statement.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "share")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// The study.
    pub study_id: i64,
    /// SHA-256 of the end of the link, in hexadecimal.
    pub sha256: String,
    /// Whom it is for.
    pub name: String,
    /// Who made it.
    pub account_id: Option<i64>,
    /// When it was made.
    pub created_at: DateTimeUtc,
    /// Until when it is good.
    pub expires_at: DateTimeUtc,
    /// When it was withdrawn.
    pub withdrawn_at: Option<DateTimeUtc>,
    /// How often it was followed.
    pub followed: i64,
    /// When last.
    pub followed_at: Option<DateTimeUtc>,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
