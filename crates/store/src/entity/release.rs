//! A model and a policy that other programs call by name.

use sea_orm::entity::prelude::*;

/// A model and a policy that other programs call by name.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "release")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Its workspace.
    pub workspace_id: i64,
    /// Its study.
    pub study_id: i64,
    /// By what it is called; once in a workspace.
    pub name: String,
    /// The version that answers.
    pub version_id: Option<i64>,
    /// A version that answers some of the calls instead.
    pub challenger_id: Option<i64>,
    /// The share of calls that it answers.
    pub challenger_share: f64,
    /// When it was first released.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
