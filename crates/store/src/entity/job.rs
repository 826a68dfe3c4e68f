//! Work that runs in the background.

use sea_orm::entity::prelude::*;

/// Work that runs in the background.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "job")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Where it belongs.
    pub workspace_id: i64,
    /// The study it is for.
    pub study_id: Option<i64>,
    /// What it does, in words.
    pub title: String,
    /// What to do: a `jobs::Work`.
    pub work: Json,
    /// `queued`, `running`, `done`, `failed` or `stopped`.
    pub state: String,
    /// Where it is, in words.
    pub stage: String,
    /// Share done, 0 to 1.
    pub share: f64,
    /// Whether somebody wants it stopped.
    pub cancel_requested: bool,
    /// How often it was begun.
    pub attempts: i32,
    /// Who works on it.
    pub worker: Option<String>,
    /// When the worker was last heard of.
    pub heartbeat_at: Option<DateTimeUtc>,
    /// Where the result is, or why there is none.
    pub outcome: Option<String>,
    /// The stages that it went through: a list of `jobs::Stage`.
    pub log: Json,
    /// The learning curve of what it fits at the moment: a list of step, loss of
    /// rows fitted to, loss of rows held back.
    pub curve: Json,
    /// When it was asked for.
    pub created_at: DateTimeUtc,
    /// When it was last begun.
    pub started_at: Option<DateTimeUtc>,
    /// When it ended.
    pub finished_at: Option<DateTimeUtc>,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
