//! A place that holds tables and studies.

use sea_orm::entity::prelude::*;

/// A place that holds tables and studies.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "workspace")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Its name.
    pub name: String,
    /// Whether its records are made up.
    pub made_up: bool,
    /// When it was made.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
