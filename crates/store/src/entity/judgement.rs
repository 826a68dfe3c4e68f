//! What a model said of the rows that it is judged on.

use sea_orm::entity::prelude::*;

/// What a model said of the rows that it is judged on; lists of equal length in little-endian bytes.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "judgement")]
pub struct Model {
    /// The model.
    #[sea_orm(primary_key, auto_increment = false)]
    pub model_id: i64,
    /// Positions of the rows in their table, as `u32`.
    pub positions: Vec<u8>,
    /// Probabilities, as `f64`.
    pub probabilities: Vec<u8>,
    /// Whether it happened, as `u8`.
    pub events: Vec<u8>,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
