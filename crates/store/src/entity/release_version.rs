//! A version of a release.

use sea_orm::entity::prelude::*;

/// A version of a release; never changed.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "release_version")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Its release.
    pub release_id: i64,
    /// Counted from 1.
    pub number: i32,
    /// The model.
    pub model_id: i64,
    /// By what it decides: a `pronoia_core::study::ChosenPolicy` whose line is one value of the key.
    pub policy: Json,
    /// When it was released.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
