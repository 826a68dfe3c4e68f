//! Customers that a version of a release has met.

use sea_orm::entity::prelude::*;

/// Customers that a version of a release has met within a day.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "release_tally")]
pub struct Model {
    /// The version.
    #[sea_orm(primary_key, auto_increment = false)]
    pub version_id: i64,
    /// The day.
    #[sea_orm(primary_key, auto_increment = false)]
    pub day: Date,
    /// What they are like.
    pub tally: Json,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
