//! A search over families and settings.

use sea_orm::entity::prelude::*;

/// A search over families and settings, as far as it has come.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "search")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Its study.
    pub study_id: i64,
    /// What is searched, and what was tried: a `pronoia_core::tune::Search`.
    pub search: Json,
    /// What candidates are fitted on: a `pronoia_core::study::Basis`.
    pub basis: Json,
    /// `queued`, `done`, `stopped` or `failed`.
    pub state: String,
    /// Why it ended: a `pronoia_core::tune::Ended`.
    pub ended: Option<String>,
    /// Why it failed.
    pub error: Option<String>,
    /// What it found.
    pub model_id: Option<i64>,
    /// When it was asked for.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
