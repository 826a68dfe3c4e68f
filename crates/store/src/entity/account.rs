//! Somebody who may sign in.

use sea_orm::entity::prelude::*;

/// Somebody who may sign in.
#[derive(Debug, Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "account")]
pub struct Model {
    /// Key.
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Address used to sign in.
    pub email: String,
    /// Argon2id, in PHC form.
    pub password_hash: String,
    /// When it was made.
    pub created_at: DateTimeUtc,
}

/// None are walked by SeaORM.
#[derive(Debug, Copy, Clone, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
