//! How often a version of a release was called.

use sea_orm::entity::prelude::*;

/// How often a version of a release was called within an hour.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "release_use")]
pub struct Model {
    /// Its release.
    pub release_id: i64,
    /// The version.
    #[sea_orm(primary_key, auto_increment = false)]
    pub version_id: i64,
    /// The hour.
    #[sea_orm(primary_key, auto_increment = false)]
    pub hour: DateTimeUtc,
    /// Calls that were answered.
    pub calls: i64,
    /// Calls that were refused.
    pub refused: i64,
    /// Customers scored.
    pub customers: i64,
    /// How many of them to act on.
    pub acted: i64,
    /// How many of them had something out of the ordinary.
    pub remarked: i64,
    /// Microseconds that answers took, in all.
    pub micros: i64,
    /// The slowest.
    pub slowest: i64,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
