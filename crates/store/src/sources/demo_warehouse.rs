//! A database that stands in for somebody's warehouse, filled for a demonstration.

use sea_orm::sqlx::postgres::PgConnectOptions;
use sea_orm::sqlx::{AssertSqlSafe, ConnectOptions, Connection, Executor, PgConnection};

use super::{Details, Encryption};
use crate::records::quoted;
use crate::{Result, StoreError};

/// What a stand-in holds.
#[derive(Debug, Clone)]
pub struct StandIn<'a> {
    /// What the analysts call it.
    pub name: &'a str,
    /// The database that is made for it.
    pub database: &'a str,
    /// The schema of its tables.
    pub schema: &'a str,
    /// The account that may read them.
    pub account: &'a str,
}

/// A table of a stand-in.
#[derive(Debug, Clone, Copy)]
pub struct StandInTable<'a> {
    /// Its name.
    pub name: &'a str,
    /// What it holds.
    pub comment: &'a str,
    /// Its columns, as they stand in CREATE TABLE.
    pub columns: &'a str,
    /// Its rows as comma-separated text with names on top.
    pub csv: &'a str,
}

impl StandIn<'_> {
    /// Makes the database on a server if it is not there yet, and gives its
    /// account a new password; how to connect as that account.
    ///
    /// # Errors
    /// If the server does not answer or refuses.
    pub async fn fill(&self, server: &str, tables: &[StandInTable<'_>]) -> Result<Details> {
        let options: PgConnectOptions = server.parse().map_err(StoreError::from)?;
        let password = format!("{:032x}", rand::random::<u128>());
        let mut connection = options.connect().await?;
        let there: Option<i32> = sea_orm::sqlx::query_scalar("SELECT 1 FROM pg_database WHERE datname = $1")
            .bind(self.database)
            .fetch_optional(&mut connection)
            .await?;
        if there.is_none() {
            run(&mut connection, format!("CREATE DATABASE {}", quoted(self.database))).await?;
        }
        let account: Option<i32> = sea_orm::sqlx::query_scalar("SELECT 1 FROM pg_roles WHERE rolname = $1")
            .bind(self.account)
            .fetch_optional(&mut connection)
            .await?;
        let verb = if account.is_some() { "ALTER" } else { "CREATE" };
        run(&mut connection, format!("{verb} ROLE {} LOGIN PASSWORD '{password}'", quoted(self.account))).await?;
        connection.close().await?;
        let mut connection = options.clone().database(self.database).connect().await?;
        self.load(&mut connection, tables).await?;
        connection.close().await?;
        Ok(Details {
            name: self.name.to_owned(),
            host: options.get_host().to_owned(),
            port: options.get_port(),
            database: self.database.to_owned(),
            account: self.account.to_owned(),
            password,
            encryption: Encryption::Offered,
        })
    }

    /// All tables or none.
    async fn load(&self, connection: &mut PgConnection, tables: &[StandInTable<'_>]) -> Result<()> {
        let schema = quoted(self.schema);
        let there: Option<i32> = sea_orm::sqlx::query_scalar("SELECT 1 FROM pg_namespace WHERE nspname = $1")
            .bind(self.schema)
            .fetch_optional(&mut *connection)
            .await?;
        if there.is_some() {
            return Ok(());
        }
        let mut transaction = connection.begin().await?;
        run(&mut transaction, format!("CREATE SCHEMA {schema}")).await?;
        for table in tables {
            let name = format!("{schema}.{}", quoted(table.name));
            run(&mut transaction, format!("CREATE TABLE {name} ({})", table.columns)).await?;
            run(&mut transaction, format!("COMMENT ON TABLE {name} IS '{}'", table.comment.replace('\'', "''")))
                .await?;
            let copy = format!("COPY {name} FROM STDIN (FORMAT csv, HEADER)");
            let mut sink = transaction.copy_in_raw(&copy).await?;
            sink.send(table.csv.as_bytes()).await?;
            sink.finish().await?;
            run(&mut transaction, format!("ANALYZE {name}")).await?;
        }
        let account = quoted(self.account);
        run(&mut transaction, format!("GRANT USAGE ON SCHEMA {schema} TO {account}")).await?;
        run(&mut transaction, format!("GRANT SELECT ON ALL TABLES IN SCHEMA {schema} TO {account}")).await?;
        transaction.commit().await?;
        Ok(())
    }
}

async fn run(connection: &mut PgConnection, sql: String) -> Result<()> {
    connection.execute(AssertSqlSafe(sql)).await?;
    Ok(())
}
