//! What was found to go with a study's outcome.

use sea_orm::entity::prelude::*;

/// What was found to go with a study's outcome.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "finding")]
pub struct Model {
    /// Its study.
    #[sea_orm(primary_key, auto_increment = false)]
    pub study_id: i64,
    /// The choices it rests on: a `pronoia_core::study::Basis`.
    pub basis: Json,
    /// How many columns go strongly with the outcome.
    pub strong: i64,
    /// What was found: `pronoia_core::drivers::Drivers`.
    pub drivers: Json,
    /// What was seen of the rows: `pronoia_core::cautions::Survey`.
    pub survey: Json,
    /// When it was found.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
