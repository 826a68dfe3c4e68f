//! What a study's rule of today would have come to.

use sea_orm::entity::prelude::*;

/// What a study's rule of today would have come to.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "rule_tried")]
pub struct Model {
    /// The study.
    #[sea_orm(primary_key, auto_increment = false)]
    pub study_id: i64,
    /// The rule, as it was written.
    pub condition: String,
    /// The choices that it was tried under: a `pronoia_core::study::Basis`.
    pub basis: Json,
    /// A `pronoia_core::decide::FixedRule`.
    pub found: Json,
    /// When.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
