//! The tables that Pronoia keeps for itself, in steps that are applied once.

use sea_orm_migration::prelude::*;

/// All steps in order.
pub(crate) struct Migrator;

impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![Box::new(Foundation)]
    }
}

/// Accounts, workspaces, records, studies, models, lists, ledger, jobs.
struct Foundation;

impl MigrationName for Foundation {
    fn name(&self) -> &str {
        "m0001_foundation"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Foundation {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(include_str!("schema/0001_foundation.sql")).await?;
        Ok(())
    }
}
