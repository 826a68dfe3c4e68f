//! A table of customers scored, or to be, with a model and a cut-off.

use sea_orm::entity::prelude::*;

/// A table of customers scored, or to be, with a model and a cut-off.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "list")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Its study.
    pub study_id: i64,
    /// The rows as brought.
    pub table_id: i64,
    /// The model.
    pub model_id: i64,
    /// By what it is decided on: a `pronoia_core::study::ChosenPolicy`.
    pub policy: Json,
    /// A `pronoia_core::score::MatchReport`.
    pub report: Json,
    /// `matched`, `scoring`, `scored`, `failed` or `stopped`.
    pub state: String,
    /// The rows with probability and decision.
    pub scored_id: Option<i64>,
    /// How many are to be acted on.
    pub acted: Option<i64>,
    /// What was said about its columns: a `pronoia_core::score::Answers`.
    pub answers: Json,
    /// What its scored form holds besides: a `pronoia_core::score::Extras`.
    pub extras: Json,
    /// What acting on those to be acted on is expected to gain.
    pub gain: Option<f64>,
    /// For how many customers an amount had no value.
    pub lacking: i64,
    /// How many customers were left alone because they are not to be contacted.
    pub suppressed: i64,
    /// Where it stands for other programs to read.
    pub published: Option<String>,
    /// When it was brought.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
