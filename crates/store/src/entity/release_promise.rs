//! What a version of a release promised, and what happened.

use sea_orm::entity::prelude::*;

/// What a version of a release promised of customers, and what happened to them.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "release_promise")]
pub struct Model {
    /// Its key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// The version.
    pub version_id: i64,
    /// What the table that says what happened was called.
    pub table_name: String,
    /// The table.
    pub table_id: i64,
    /// What was found.
    pub found: Json,
    /// When.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
