//! A candidate, fitted or about to be.

use sea_orm::entity::prelude::*;

/// A candidate, fitted or about to be.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "model")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Its study.
    pub study_id: i64,
    /// Its name in the study.
    pub name: String,
    /// A `pronoia_core::model::Recipe`.
    pub settings: Json,
    /// What it is fitted on: a `pronoia_core::study::Basis`.
    pub basis: Json,
    /// Governs all that is drawn by lot.
    pub seed: i64,
    /// `queued`, `fitted`, `failed` or `stopped`.
    pub state: String,
    /// The saved model.
    pub artefact: Option<Vec<u8>>,
    /// On validation rows: a `pronoia_core::evaluate::Evaluation`.
    pub evaluation: Option<Json>,
    /// On validation rows: a `pronoia_core::decide::Ranking`.
    pub ranking: Option<Json>,
    /// How long the fit took.
    pub fit_seconds: Option<f64>,
    /// How long a thousand customers take to score.
    pub score_seconds: Option<f64>,
    /// On the rows that it was fitted to: a `pronoia_core::decide::Ranking`.
    pub training: Option<Json>,
    /// What would make it wrong: a list of `pronoia_core::cautions::Caution`.
    pub cautions: Json,
    /// Whether more rows would help, and how far a few columns go: a
    /// `pronoia_core::judged::Closer`.
    pub closer: Option<Json>,
    /// What it goes by: a `pronoia_core::judged::Understanding`.
    pub understanding: Option<Json>,
    /// What the policy would be worth without some columns: a `pronoia_core::judged::Without`.
    pub without: Option<Json>,
    /// What came of fitting it again: a `models::Proof`.
    pub proof: Option<Json>,
    /// Why it failed.
    pub error: Option<String>,
    /// Whether a newer fit has taken its place.
    pub retired: bool,
    /// When it was asked for.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
