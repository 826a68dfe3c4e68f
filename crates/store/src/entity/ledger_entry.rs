//! One choice in a study.

use sea_orm::entity::prelude::*;

/// One choice in a study.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "ledger_entry")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Its study.
    pub study_id: i64,
    /// Who chose.
    pub account_id: Option<i64>,
    /// What was chosen.
    pub chosen: String,
    /// The figure that mattered.
    pub figure: String,
    /// The choices before it; none if it cannot be taken back.
    pub before: Option<Json>,
    /// The choices after it; none if it cannot be taken back.
    pub after: Option<Json>,
    /// The entry that it takes back, or brings back.
    pub takes_back: Option<i64>,
    /// When it was taken back.
    pub taken_back_at: Option<DateTimeUtc>,
    /// When it was chosen.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
