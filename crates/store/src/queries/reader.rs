//! The role that reads the tables of one workspace, and the views it reads.

use std::collections::HashMap;
use std::sync::Mutex;
use std::time::Duration;

use sea_orm::sqlx::{self, AssertSqlSafe, Connection, Executor, PgConnection, Postgres, Transaction};

use super::rewrite::{Relation, Relations, Rewritten, TableLookup};
use super::{QueryLimits, cursor, hang_up};
use crate::locks::Lock;
use crate::records::{quoted, relation};
use crate::{Result, Store, StoreError, record_table};

/// Connections of a role, of all servers together: one for each question, and some that are ending.
const CONNECTIONS: u32 = 12;

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

    /// The same tables, as a question is looked up in them.
    pub(super) async fn relations(&self, workspace_id: i64) -> Result<Tables> {
        let tables = self.tables(workspace_id).await?;
        let mut relations = Vec::new();
        for (table, name) in tables.iter().zip(view_names(&tables)) {
            let columns = column_names(table)?.into_iter().map(|(name, _)| name).collect();
            let schema = schema(workspace_id);
            // Names that anybody chose stand in no catalogue.
            relations.push((table.id, name, Relation { schema, name: view(table.id), columns, is_renamed: true }));
        }
        Ok(Tables(relations))
    }

    /// A connection that can read the views of the workspace and nothing else, and the process that serves it.
    pub(super) async fn reader(
        &self,
        workspace_id: i64,
        limits: &QueryLimits,
        rewritten: &Rewritten,
        tables: &Tables,
    ) -> Result<(PgConnection, i32)> {
        let wanted: Vec<i64> = tables.0.iter().map(|(id, ..)| *id).collect();
        let (mut tries, mut refused) = (0, None);
        loop {
            let known = self.questions.readers.known(workspace_id).filter(|known| known.tables == wanted);
            let known = match known {
                Some(known) => known,
                None => {
                    let made = self.prepare_reader(workspace_id, &wanted, refused.as_deref()).await?;
                    self.questions.readers.remember(workspace_id, made.clone());
                    made
                }
            };
            let failed = match self.connect_as(&known).await {
                Ok(mut connection) => match is_ready(&mut connection, limits, rewritten, workspace_id, &wanted).await {
                    Ok(backend) => return Ok((connection, backend)),
                    Err(e) => {
                        hang_up(connection).await;
                        e
                    }
                },
                Err(e) => e,
            };
            if failed.as_database_error().is_some_and(|e| e.code().as_deref() == Some("28P01")) {
                refused = Some(known.password.clone());
            }
            // The role or a view may have gone since it was made, or another server made it anew.
            self.questions.readers.forget(workspace_id);
            tries += 1;
            if tries > 2 || !is_stale(&failed) {
                return Err(in_words(failed));
            }
        }
    }

    async fn connect_as(&self, reader: &QueryReader) -> std::result::Result<PgConnection, sqlx::Error> {
        let options = self.pool().connect_options().as_ref().clone();
        let options = options.username(&reader.role).password(&reader.password).application_name("pronoia question");
        let connecting = PgConnection::connect_with(&options);
        tokio::time::timeout(Duration::from_secs(3), connecting).await.unwrap_or(Err(sqlx::Error::PoolTimedOut))
    }

    /// Ends what a question is at from outside, where the limits of its own connection did not.
    pub(super) async fn end_backend(&self, backend: i32) {
        let ended = sqlx::query("SELECT pg_terminate_backend($1)").bind(backend).execute(self.pool()).await;
        match ended {
            Ok(_) => tracing::warn!("a question that did not end by itself was ended"),
            Err(e) => tracing::error!("a question that did not end by itself could not be ended: {e}"),
        }
    }

    /// Makes the role and its views, or brings them up to date; servers do so one after the other.
    ///
    /// A password that was `refused` is made anew, unless another server has done so.
    async fn prepare_reader(&self, workspace_id: i64, wanted: &[i64], refused: Option<&str>) -> Result<QueryReader> {
        let mut transaction = self.pool().begin().await?;
        Lock::Questions.hold(&mut transaction).await?;
        let (role, password) = made_role(&mut transaction, workspace_id, refused).await?;
        let schema = schema(workspace_id);
        let mut statements =
            vec![format!("CREATE SCHEMA IF NOT EXISTS {schema}"), format!("GRANT USAGE ON SCHEMA {schema} TO {role}")];
        let shown: Vec<String> = sqlx::query_scalar(
            "SELECT c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relkind = 'v'",
        )
        .bind(&schema)
        .fetch_all(&mut *transaction)
        .await?;
        for name in shown.iter().filter(|name| !wanted.iter().any(|id| view(*id) == **name)) {
            statements.push(format!("DROP VIEW {schema}.{}", quoted(name)));
        }
        // Asked within this transaction: a table may have been erased since it was looked up.
        for table in self.tables_of(workspace_id, wanted).await? {
            let view = view(table.id);
            if !shown.contains(&view) {
                let fields = table.stored_columns()?.into_iter().enumerate();
                let fields: Vec<String> =
                    fields.map(|(at, c)| format!("{} AS c{}", quoted(&c.field), at + 1)).collect();
                let from = relation(workspace_id, table.id);
                statements.push(format!("CREATE VIEW {schema}.{view} AS SELECT {} FROM {from}", fields.join(", ")));
            }
            statements.push(format!("GRANT SELECT ON {schema}.{view} TO {role}"));
        }
        for statement in statements {
            transaction.execute(sqlx::query(AssertSqlSafe(statement))).await.map_err(not_prepared)?;
        }
        transaction.commit().await?;
        Ok(QueryReader { role, password, tables: wanted.to_vec() })
    }
}

/// The role of a workspace and its password, made if they are not there.
async fn made_role(
    transaction: &mut Transaction<'_, Postgres>,
    workspace_id: i64,
    refused: Option<&str>,
) -> Result<(String, String)> {
    let oid: i64 = sqlx::query_scalar("SELECT oid::bigint FROM pg_database WHERE datname = current_database()")
        .fetch_one(&mut **transaction)
        .await?;
    let role = format!("pronoia_reads_{oid}_{workspace_id}");
    let kept: Option<String> =
        sqlx::query_scalar("SELECT password FROM question_role WHERE workspace_id = $1 AND role = $2")
            .bind(workspace_id)
            .bind(&role)
            .fetch_optional(&mut **transaction)
            .await?;
    let there: Option<i32> = sqlx::query_scalar("SELECT 1 FROM pg_roles WHERE rolname = $1")
        .bind(&role)
        .fetch_optional(&mut **transaction)
        .await?;
    if let (Some(password), Some(_)) = (&kept, there)
        && refused != Some(password)
    {
        return Ok((role, password.clone()));
    }
    let password = format!("{:032x}", rand::random::<u128>());
    let verb = if there.is_some() { "ALTER" } else { "CREATE" };
    let statements = [
        format!(
            "{verb} ROLE {role} LOGIN NOCREATEDB NOCREATEROLE NOINHERIT CONNECTION LIMIT {CONNECTIONS} PASSWORD '{password}'"
        ),
        format!("ALTER ROLE {role} SET default_transaction_read_only = on"),
        format!("ALTER ROLE {role} SET search_path = pg_catalog, pg_temp"),
        // So that whatever a question is at can be ended.
        format!("GRANT {role} TO CURRENT_USER"),
    ];
    for statement in statements {
        transaction.execute(sqlx::query(AssertSqlSafe(statement))).await.map_err(not_prepared)?;
    }
    sqlx::query(
        "INSERT INTO question_role (workspace_id, role, password) VALUES ($1, $2, $3) \
         ON CONFLICT (workspace_id) DO UPDATE SET role = excluded.role, password = excluded.password",
    )
    .bind(workspace_id)
    .bind(&role)
    .bind(&password)
    .execute(&mut **transaction)
    .await?;
    Ok((role, password))
}

/// Sets the limits of a connection, and sees whether the views are there; the process that serves it.
async fn is_ready(
    connection: &mut PgConnection,
    limits: &QueryLimits,
    rewritten: &Rewritten,
    workspace_id: i64,
    tables: &[i64],
) -> std::result::Result<i32, sqlx::Error> {
    cursor::settle(connection, limits, rewritten.memory_users).await?;
    let schema = schema(workspace_id);
    for id in tables {
        let named = format!("{}.\"{}\"", quoted(&schema), view(*id));
        if rewritten.sql().contains(&named) {
            connection.execute(sqlx::query(AssertSqlSafe(format!("SELECT FROM {named} LIMIT 0")))).await?;
        }
    }
    sqlx::query_scalar("SELECT pg_backend_pid()").fetch_one(connection).await
}

/// Whether what failed may be right once the role and its views are made anew.
fn is_stale(e: &sqlx::Error) -> bool {
    let code = e.as_database_error().and_then(|e| e.code());
    matches!(code.as_deref(), Some("28P01" | "28000" | "42P01" | "42501" | "3F000"))
}

fn in_words(e: sqlx::Error) -> StoreError {
    match e.as_database_error().and_then(|e| e.code()).as_deref() {
        Some("53300") => StoreError::Busy("Other questions are being answered."),
        _ => e.into(),
    }
}

/// The tables of a workspace, as a question is looked up in them.
pub(super) struct Tables(Vec<(i64, String, Relation)>);

impl Relations for Tables {
    fn find(&self, name: &[String]) -> TableLookup {
        let [name] = name else { return TableLookup::Missing };
        let found = self.0.iter().find(|(_, own, _)| own == name);
        found.map_or(TableLookup::Missing, |(_, _, relation)| TableLookup::Found(relation.clone()))
    }
}

/// How the tables of a workspace are read, as it was last made.
#[derive(Clone)]
pub(super) struct QueryReader {
    role: String,
    password: String,
    tables: Vec<i64>,
}

impl std::fmt::Debug for QueryReader {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The password stays out of every log.
        f.debug_struct("Reader").field("role", &self.role).finish_non_exhaustive()
    }
}

/// The readers of all workspaces that were asked about.
#[derive(Debug, Default)]
pub(super) struct Readers(Mutex<HashMap<i64, QueryReader>>);

impl Readers {
    fn known(&self, workspace_id: i64) -> Option<QueryReader> {
        self.0.lock().ok()?.get(&workspace_id).cloned()
    }

    fn remember(&self, workspace_id: i64, reader: QueryReader) {
        if let Ok(mut readers) = self.0.lock() {
            readers.insert(workspace_id, reader);
        }
    }

    fn forget(&self, workspace_id: i64) {
        if let Ok(mut readers) = self.0.lock() {
            readers.remove(&workspace_id);
        }
    }
}

/// The schema in which the views of a workspace lie.
fn schema(workspace_id: i64) -> String {
    format!("ask_{workspace_id}")
}

/// The view of a table.
fn view(table_id: i64) -> String {
    format!("table_{table_id}")
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
