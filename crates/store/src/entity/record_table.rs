//! A sealed table version.

use sea_orm::entity::prelude::*;

/// A sealed table version.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "record_table")]
pub struct Model {
    /// Key; also names the table that holds the rows.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Where it belongs.
    pub workspace_id: i64,
    /// Its name.
    pub name: String,
    /// Counts from 1.
    pub version: i32,
    /// Number of rows.
    pub rows: i64,
    /// A list of `records::StoredColumn`.
    pub columns: Json,
    /// Where it came from: a `records::Source`.
    pub source: Json,
    /// A `pronoia_core::profile::TableProfile`.
    pub profile: Json,
    /// Whether it was brought in to be scored, or is the result.
    pub is_list: bool,
    /// Whether its rows are made up.
    pub made_up: bool,
    /// When it was put away.
    pub put_away_at: Option<DateTimeUtc>,
    /// By whom.
    pub put_away_by: Option<i64>,
    /// When it was sealed.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
