//! The role that reads the tables of one workspace, and the views it reads.

use std::time::Duration;

use sea_orm::sqlx::{self, AssertSqlSafe, Connection, Executor, PgConnection, Row};

use super::Limits;
use crate::records::{quoted, relation};
use crate::{Result, Store, StoreError, record_table};

/// Temporary files of one question, at most.
const MOST_TEMPORARY: &str = "512MB";

/// Memory of one sort or hash of a question.
const MEMORY: &str = "16MB";

/// Questions that are answered at the same time in a workspace.
const AT_ONCE: u32 = 4;

/// Bytes that the database allows in a name.
const LONGEST_NAME: usize = 63;

/// A table that can be asked about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Readable {
    /// Its key.
    pub id: i64,
    /// Its name in a question, with quotes where they are needed.
    pub name: String,
    /// The names of its columns in a question, likewise.
    pub columns: Vec<String>,
    /// Its rows.
    pub rows: i64,
}

impl Store {
    /// The tables of a workspace as a question names them, newest first. Of
    /// tables with the same name the newest has it to itself; the others carry
    /// their number.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn readable(&self, workspace_id: i64) -> Result<Vec<Readable>> {
        let tables = self.tables(workspace_id).await?;
        let names = view_names(&tables);
        let readable = tables.iter().zip(names).map(|(table, name)| {
            let columns = column_names(table)?.into_iter().map(|(name, _)| written(&name)).collect();
            Ok(Readable { id: table.id, name: written(&name), columns, rows: table.rows })
        });
        readable.collect()
    }

    /// A connection that can read the views of the workspace and nothing else.
    pub(super) async fn reader(&self, workspace_id: i64, limits: &Limits) -> Result<PgConnection> {
        let role = self.prepare_reader(workspace_id).await?;
        let options = self.pool().connect_options().as_ref().clone();
        let options = options
            .username(&role)
            .password(&self.reader_password(workspace_id))
            .options([("statement_timeout", limits.time.as_millis().to_string())])
            .application_name("pronoia question");
        match tokio::time::timeout(Duration::from_secs(3), PgConnection::connect_with(&options)).await {
            Err(_) => Err(StoreError::Unreachable),
            Ok(Ok(connection)) => Ok(connection),
            Ok(Err(sqlx::Error::Database(said))) if said.code().as_deref() == Some("53300") => {
                Err(StoreError::Refused(format!(
                    "{AT_ONCE} questions are being answered already. Ask again when one of them is done."
                )))
            }
            Ok(Err(e)) => Err(e.into()),
        }
    }

    fn reader_password(&self, workspace_id: i64) -> String {
        format!("{:032x}{workspace_id}", self.reader_secret)
    }

    /// Makes the role and its views, or brings them up to date; gives the role.
    async fn prepare_reader(&self, workspace_id: i64) -> Result<String> {
        let tables = self.tables(workspace_id).await?;
        let mut transaction = self.pool().begin().await?;
        // Two questions at once prepare one after the other, since both touch the
        // rights on the database.
        sqlx::query("SELECT pg_advisory_xact_lock(7301)").execute(&mut *transaction).await?;
        let database =
            sqlx::query("SELECT oid::bigint, datname::text FROM pg_database WHERE datname = current_database()")
                .fetch_one(&mut *transaction)
                .await?;
        let (oid, database): (i64, String) = (database.try_get(0)?, database.try_get(1)?);
        // Roles belong to the whole cluster, so that the database is part of the name.
        let role = format!("pronoia_reads_{oid}_{workspace_id}");
        let schema = format!("ask_{workspace_id}");
        let there: Option<i32> = sqlx::query_scalar("SELECT 1 FROM pg_roles WHERE rolname = $1")
            .bind(&role)
            .fetch_optional(&mut *transaction)
            .await?;
        let verb = if there.is_some() { "ALTER" } else { "CREATE" };
        let password = self.reader_password(workspace_id);
        let mut statements = vec![
            format!(
                "{verb} ROLE {role} LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOINHERIT CONNECTION LIMIT {AT_ONCE} PASSWORD '{password}'"
            ),
            format!("ALTER ROLE {role} SET default_transaction_read_only = on"),
            format!("ALTER ROLE {role} SET work_mem = '{MEMORY}'"),
            format!("ALTER ROLE {role} SET search_path = {schema}"),
            format!("REVOKE TEMPORARY ON DATABASE {} FROM PUBLIC", quoted(&database)),
            format!("CREATE SCHEMA IF NOT EXISTS {schema}"),
            format!("GRANT USAGE ON SCHEMA {schema} TO {role}"),
        ];
        // A view says in its comment which table it shows.
        let shown: Vec<(String, Option<String>)> = sqlx::query_as(
            "SELECT c.relname::text, obj_description(c.oid) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relkind = 'v'",
        )
        .bind(&schema)
        .fetch_all(&mut *transaction)
        .await?;
        let wanted: Vec<(String, &record_table::Model)> = view_names(&tables).into_iter().zip(&tables).collect();
        let is_right = |name: &str, says: Option<&str>| {
            wanted.iter().any(|(view, table)| view == name && says == Some(&table.id.to_string()))
        };
        for (name, _) in shown.iter().filter(|(name, says)| !is_right(name, says.as_deref())) {
            statements.push(format!("DROP VIEW {schema}.{}", quoted(name)));
        }
        for (name, table) in &wanted {
            if shown.iter().any(|(view, says)| view == name && is_right(view, says.as_deref())) {
                continue;
            }
            let columns = column_names(table)?;
            let columns: Vec<String> =
                columns.iter().map(|(name, field)| format!("{} AS {}", quoted(field), quoted(name))).collect();
            let view = format!("{schema}.{}", quoted(name));
            statements.push(format!(
                "CREATE VIEW {view} AS SELECT {} FROM {}",
                columns.join(", "),
                relation(workspace_id, table.id)
            ));
            statements.push(format!("COMMENT ON VIEW {view} IS '{}'", table.id));
            statements.push(format!("GRANT SELECT ON {view} TO {role}"));
        }
        for statement in statements {
            transaction.execute(AssertSqlSafe(statement)).await.map_err(not_prepared)?;
        }
        transaction.commit().await?;
        // Only a superuser may limit temporary files; without one the disk is the limit.
        let limit = format!("ALTER ROLE {role} SET temp_file_limit = '{MOST_TEMPORARY}'");
        if let Err(e) = self.pool().execute(AssertSqlSafe(limit)).await {
            tracing::debug!("temporary files of questions are not limited: {e}");
        }
        Ok(role)
    }
}

/// Why there is no role to ask as.
fn not_prepared(e: sqlx::Error) -> StoreError {
    match &e {
        sqlx::Error::Database(said) if said.code().as_deref() == Some("42501") => StoreError::Refused(
            "Questions run as a database role of their own, and Pronoia's account may not make one. Ask whoever runs the database to let it create roles.".into(),
        ),
        _ => e.into(),
    }
}

/// A name for every table, newest first: its own for the newest of that name.
fn view_names(tables: &[record_table::Model]) -> Vec<String> {
    let mut taken: Vec<String> = Vec::new();
    for table in tables {
        let own = shortened(&table.name, LONGEST_NAME);
        let name =
            if taken.contains(&own) { format!("{}_{}", shortened(&own, LONGEST_NAME - 21), table.id) } else { own };
        taken.push(name);
    }
    taken
}

/// The columns of a table: the name in a question and the name in storage.
fn column_names(table: &record_table::Model) -> Result<Vec<(String, String)>> {
    let columns = table.stored_columns()?;
    let fits = |name: &str| !name.is_empty() && name.len() <= LONGEST_NAME;
    Ok(columns
        .into_iter()
        .map(|c| if fits(&c.name) { (c.name, c.field) } else { (c.field.clone(), c.field) })
        .collect())
}

fn shortened(name: &str, most: usize) -> String {
    let mut short = if name.is_empty() { "table".to_owned() } else { name.to_owned() };
    while short.len() > most {
        short.pop();
    }
    short
}

/// A name as it is written in a question: in quotes unless it is plain.
pub(crate) fn written(name: &str) -> String {
    let plain =
        name.chars().enumerate().all(|(i, c)| c.is_ascii_lowercase() || c == '_' || (i > 0 && c.is_ascii_digit()));
    let keyword = sqlparser::keywords::ALL_KEYWORDS.contains(&name.to_uppercase().as_str());
    if plain && !keyword { name.to_owned() } else { quoted(name) }
}
