//! One question on one table version.

use sea_orm::entity::prelude::*;

/// One question on one table version.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "study")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Where it belongs.
    pub workspace_id: i64,
    /// The table.
    pub table_id: i64,
    /// The question in a sentence.
    pub title: String,
    /// Its kind: a word of `pronoia_core::question::Question`.
    pub question: String,
    /// The choices: a `pronoia_core::study::StudyState`.
    pub state: Json,
    /// Counts changes of the choices.
    pub revision: i64,
    /// How often the sealed test was opened.
    pub test_openings: i32,
    /// What the sealed test said.
    pub confirmation: Option<Json>,
    /// Who keeps it.
    pub account_id: Option<i64>,
    /// When it was put away.
    pub put_away_at: Option<DateTimeUtc>,
    /// By whom.
    pub put_away_by: Option<i64>,
    /// When it was begun.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
