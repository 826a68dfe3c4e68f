//! A scored list acted on, some of its customers held back.

use sea_orm::entity::prelude::*;

/// A scored list acted on, some of its customers held back.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "campaign")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Its study.
    pub study_id: i64,
    /// The scored list.
    pub list_id: i64,
    /// Its name.
    pub name: String,
    /// Who is held back and what is done about the others: a `pronoia_core::campaign::Arms`.
    pub arms: Json,
    /// The customers with their arms, once they are drawn.
    pub assigned_id: Option<i64>,
    /// How many are acted on.
    pub acted: Option<i64>,
    /// How many are held back.
    pub held: Option<i64>,
    /// What acting on the former is expected to gain.
    pub gain: Option<f64>,
    /// What came of it.
    pub outcome: Option<Json>,
    /// When it was begun.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
