//! A failed attempt to sign in.

use sea_orm::entity::prelude::*;

/// A failed attempt to sign in.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "sign_in_attempt")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Address tried.
    pub email: String,
    /// Where it came from.
    pub address: String,
    /// When.
    pub at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
