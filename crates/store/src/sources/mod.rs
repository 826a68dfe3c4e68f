//! Databases of others that records are read from.
//!
//! A source is reached with the rights of the account entered for it, within a
//! transaction that cannot write, by one SELECT at a time. Its password lies
//! sealed beside it ([`Vault`]); where it may lie is for whoever runs the server
//! to say ([`Reach`]).

mod arrow_types;
mod demo_warehouse;
mod fetch;
mod network_policy;
mod vault;

use std::fmt;
use std::net::SocketAddr;
use std::str::FromStr;
use std::time::{Duration, Instant};

use sea_orm::sqlx::postgres::{PgConnectOptions, PgSslMode};
use sea_orm::sqlx::{self, Connection, PgConnection};
use sea_orm::{ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, QueryFilter, QueryOrder};

use crate::entity::source;
use crate::queries::cursor::{self, Portions};
use crate::queries::rewrite::{Relation, Relations, RewriteStop, Rewritten, TableLookup, rewrite};
use crate::queries::{self, Parsed, QueryAnswer, QueryError, QueryLimits, hang_up};
use crate::{Result, Store, StoreError};

pub use demo_warehouse::{StandIn, StandInTable};
pub use fetch::{FetchError, Fetched, MostFetched};
pub use network_policy::Reach;
pub use vault::Vault;

/// How long a server may take to let somebody in.
const PATIENCE: Duration = Duration::from_secs(8);

/// Sources of a workspace.
const MOST_SOURCES: usize = 50;

/// Tables listed of a source.
pub const MOST_TABLES: usize = 500;

/// How the way to a source is kept from being read by others.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Encryption {
    /// Encrypted, with a certificate that is checked.
    Checked,
    /// Encrypted.
    Required,
    /// Encrypted if the server can.
    Offered,
}

impl Encryption {
    /// All of them, the safest first.
    pub const ALL: [Self; 3] = [Self::Checked, Self::Required, Self::Offered];

    /// As it is stored.
    pub fn word(self) -> &'static str {
        match self {
            Self::Checked => "checked",
            Self::Required => "required",
            Self::Offered => "offered",
        }
    }

    /// What it means.
    pub fn description(self) -> &'static str {
        match self {
            Self::Checked => "encrypted, and the server's certificate is checked",
            Self::Required => "encrypted, whatever the certificate",
            Self::Offered => "encrypted if the server can",
        }
    }
}

impl FromStr for Encryption {
    type Err = StoreError;

    fn from_str(word: &str) -> Result<Self> {
        let found = Self::ALL.into_iter().find(|e| e.word() == word);
        found.ok_or_else(|| StoreError::Refused(format!("“{word}” is no kind of encryption.")))
    }
}

/// What is entered for a source.
#[derive(Clone)]
pub struct Details {
    /// What the analysts call it.
    pub name: String,
    /// Where it is.
    pub host: String,
    /// On which port it listens.
    pub port: u16,
    /// The database.
    pub database: String,
    /// Who Pronoia is there.
    pub account: String,
    /// The password of that account.
    pub password: String,
    /// How the way there is kept.
    pub encryption: Encryption,
}

impl fmt::Debug for Details {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Details").field("name", &self.name).field("host", &self.host).finish_non_exhaustive()
    }
}

impl Details {
    /// What the password is sealed for: whoever moves a source elsewhere does
    /// not take its password along.
    fn used_with(&self, workspace_id: i64) -> String {
        format!("{workspace_id}\n{}\n{}\n{}\n{}", self.host, self.port, self.database, self.account)
    }

    fn check(&self) -> Result<()> {
        let fields = [
            ("name", &self.name),
            ("host", &self.host),
            ("database", &self.database),
            ("account", &self.account),
            ("password", &self.password),
        ];
        for (what, value) in fields {
            if value.is_empty() || value.chars().count() > 200 || value.chars().any(char::is_control) {
                return Err(StoreError::Refused(format!("Give the {what} of the database, at most 200 letters long.")));
            }
        }
        // A path would be a socket of this machine.
        if self.host.contains(['/', '\\', '@', ' ']) {
            return Err(StoreError::Refused(format!("“{}” is not the name or the address of a server.", self.host)));
        }
        Ok(())
    }
}

/// A table of a source that may be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceTable {
    /// Its schema.
    pub schema: String,
    /// Its name.
    pub name: String,
    /// Rows, as the server estimates; below zero if it does not know.
    pub rows: i64,
    /// Its columns with their types, separated by commas.
    pub columns: String,
}

impl SourceTable {
    /// The SELECT that reads all of it.
    pub fn select(&self) -> String {
        format!("SELECT * FROM {}.{}", queries::written(&self.schema), queries::written(&self.name))
    }
}

/// What a source offers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SourceTables {
    /// Its tables.
    pub tables: Vec<SourceTable>,
    /// What the account could change there, in words; empty if nothing.
    pub may_write: String,
}

/// How sources are reached.
#[derive(Debug, Clone)]
pub struct Connector {
    /// Opens their passwords.
    pub vault: Vault,
    /// Where they may lie.
    pub reach: Reach,
}

impl Connector {
    /// Connects to a source.
    async fn connect(&self, details: &Details, time: Duration) -> Result<PgConnection> {
        let place = format!("{}:{}", details.host, details.port);
        let host = details.host.trim_start_matches('[').trim_end_matches(']');
        let found: Vec<SocketAddr> = match tokio::net::lookup_host((host, details.port)).await {
            Ok(found) => found.collect(),
            Err(_) => Vec::new(),
        };
        let address = self.reach.choose(&place, &found)?;
        // A certificate is for a name; otherwise the address that was looked at
        // is the one that is reached, whatever the name stands for by then.
        let (host, mode) = match details.encryption {
            Encryption::Checked => (host.to_owned(), PgSslMode::VerifyFull),
            Encryption::Required => (address.ip().to_string(), PgSslMode::Require),
            Encryption::Offered => (address.ip().to_string(), PgSslMode::Prefer),
        };
        let options = PgConnectOptions::new_without_pgpass()
            .host(&host)
            .port(details.port)
            .database(&details.database)
            .username(&details.account)
            .password(&details.password)
            .ssl_mode(mode)
            .options([
                ("statement_timeout", time.as_millis().to_string()),
                ("default_transaction_read_only", "on".to_owned()),
            ])
            .application_name("pronoia");
        match tokio::time::timeout(PATIENCE, PgConnection::connect_with(&options)).await {
            Ok(Ok(connection)) => Ok(connection),
            Ok(Err(e)) => Err(StoreError::Refused(not_let_in(&e, details, &place))),
            Err(_) => Err(StoreError::Refused(format!(
                "Nothing answers at {place} within {} seconds. Check the address, and whether a firewall stands between.",
                PATIENCE.as_secs()
            ))),
        }
    }

    fn details(&self, source: &source::Model) -> Result<Details> {
        let port = u16::try_from(source.port).map_err(|e| StoreError::Damaged(e.to_string()))?;
        let mut details = Details {
            name: source.name.clone(),
            host: source.host.clone(),
            port,
            database: source.database_name.clone(),
            account: source.account.clone(),
            password: String::new(),
            encryption: source.encryption.parse()?,
        };
        let opened = self.vault.unseal(&source.sealed, &details.used_with(source.workspace_id));
        details.password = opened.ok_or_else(|| {
            StoreError::Refused(format!(
                "The password of {} was sealed with another key than the present one. Remove the source and enter it again, or have the right key file put back.",
                source.name
            ))
        })?;
        Ok(details)
    }

    /// The tables of a source that its account may read, by name; one more than
    /// [`MOST_TABLES`] if there are more.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if the source cannot be reached, with the reason.
    pub async fn tables(&self, source: &source::Model) -> Result<SourceTables> {
        const SQL: &str = "SELECT n.nspname::text AS schema, c.relname::text AS name, c.reltuples::bigint AS rows, \
            (SELECT string_agg(a.attname || ' ' || format_type(a.atttypid, a.atttypmod), ', ' ORDER BY a.attnum) \
             FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped) AS columns \
            FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
            WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND c.relnatts > 0 \
            AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema' \
            AND has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT') \
            ORDER BY 1, 2 LIMIT $1";
        type Row = (String, String, i64, String);
        let mut connection = self.connect(&self.details(source)?, PATIENCE).await?;
        let looking = async {
            let found = sqlx::query_as::<_, Row>(SQL).bind(MOST_TABLES as i64 + 1).fetch_all(&mut connection).await?;
            Ok::<_, sqlx::Error>((found, may_write(&mut connection).await?))
        };
        let looked = looking.await;
        hang_up(connection).await;
        let (found, may_write) = looked.map_err(|e| cannot_say(&source.name, &e))?;
        let tables = found.into_iter().map(|(schema, name, rows, columns)| SourceTable { schema, name, rows, columns });
        Ok(SourceTables { tables: tables.collect(), may_write })
    }

    /// The first rows that a SELECT gives at a source.
    ///
    /// # Errors
    /// [`QueryError::Question`] with the place of the word that is wrong.
    pub async fn look(
        &self,
        source: &source::Model,
        sql: &str,
        limits: &QueryLimits,
    ) -> std::result::Result<QueryAnswer, QueryError> {
        let parsed = Parsed::of(sql)?;
        let begun = Instant::now();
        let mut connection = self.connect(&self.details(source)?, limits.time).await?;
        let looking = async {
            let rewritten = written_anew(&mut connection, &parsed, limits).await?;
            let mut portions = Portions::begin(&mut connection, &parsed, &rewritten, limits).await?;
            let mut rows = Vec::new();
            while portions.next(|row| rows.push(row.iter().map(|v| v.map(str::to_owned)).collect())).await? {}
            let cut = portions.is_cut();
            Ok::<_, QueryError>(QueryAnswer { columns: rewritten.columns, rows, cut, took: begun.elapsed() })
        };
        let answered = tokio::time::timeout(limits.time + queries::GRACE, looking).await;
        hang_up(connection).await;
        let answered =
            answered.unwrap_or_else(|_| Err(QueryError::Question { sentence: queries::too_long(limits), place: None }));
        answered.map_err(|e| gone(e, &source.name))
    }
}

/// A question written anew for a source, whose tables are looked up there, with the settings that it is answered
/// under.
async fn written_anew(
    connection: &mut PgConnection,
    parsed: &Parsed<'_>,
    limits: &QueryLimits,
) -> std::result::Result<Rewritten, QueryError> {
    let mut offered = LookedUp::default();
    let rewritten = loop {
        match rewrite(parsed, &offered) {
            Err(RewriteStop::Unknown(name)) => {
                let found = look_up(connection, &name).await?;
                offered.0.push((name, found));
            }
            written => break written?,
        }
    };
    cursor::settle(connection, limits, rewritten.memory_users).await?;
    Ok(rewritten)
}

/// The tables of a source that a question named, as far as they were looked up.
#[derive(Default)]
struct LookedUp(Vec<(Vec<String>, TableLookup)>);

impl Relations for LookedUp {
    fn find(&self, name: &[String]) -> TableLookup {
        self.0.iter().find(|(known, _)| known == name).map_or(TableLookup::Unknown, |(_, found)| found.clone())
    }
}

/// Looks for a table as the source itself finds it by this name: no catalogue, and readable by the account.
async fn look_up(connection: &mut PgConnection, name: &[String]) -> std::result::Result<TableLookup, QueryError> {
    const SQL: &str = "SELECT n.nspname::text, c.relname::text, \
        ARRAY(SELECT a.attname::text FROM pg_catalog.pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 \
            AND NOT a.attisdropped AND has_column_privilege(c.oid, a.attnum, 'SELECT') ORDER BY a.attnum) \
        FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
        WHERE c.oid = to_regclass($1) AND c.relkind IN ('r', 'p', 'v', 'm', 'f') \
        AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema' \
        AND has_schema_privilege(n.oid, 'USAGE')";
    type Row = (String, String, Vec<String>);
    let quoted: Vec<String> = name.iter().map(|part| crate::records::quoted(part)).collect();
    let found: Option<Row> = sqlx::query_as(SQL).bind(quoted.join(".")).fetch_optional(connection).await?;
    Ok(match found {
        Some((schema, name, columns)) if !columns.is_empty() => {
            TableLookup::Found(Relation { schema, name, columns, is_renamed: false })
        }
        _ => TableLookup::Missing,
    })
}

/// What the account of a source could change there, in words; empty if nothing.
async fn may_write(connection: &mut PgConnection) -> std::result::Result<String, sqlx::Error> {
    const SQL: &str = "SELECT r.rolsuper, r.rolcreaterole OR r.rolcreatedb, \
        has_database_privilege(current_database(), 'CREATE') \
            OR EXISTS (SELECT FROM pg_catalog.pg_namespace n WHERE n.nspname NOT LIKE 'pg\\_%' \
                AND n.nspname <> 'information_schema' AND has_schema_privilege(n.oid, 'CREATE')), \
        (SELECT count(*) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
            WHERE c.relkind IN ('r', 'p', 'v', 'f') AND n.nspname NOT LIKE 'pg\\_%' \
            AND n.nspname <> 'information_schema' AND has_schema_privilege(n.oid, 'USAGE') \
            AND has_table_privilege(c.oid, 'INSERT, UPDATE, DELETE, TRUNCATE')) \
        FROM pg_catalog.pg_roles r WHERE r.rolname = current_user";
    let (superuser, makes_roles, makes_tables, tables): (bool, bool, bool, i64) =
        sqlx::query_as(SQL).fetch_one(connection).await?;
    let mut powers = Vec::new();
    if superuser {
        powers.push("do everything there, as a superuser".to_owned());
    } else {
        if tables > 0 {
            powers.push(format!("change {} {}", tables, if tables == 1 { "table" } else { "tables" }));
        }
        if makes_tables {
            powers.push("make tables".to_owned());
        }
        if makes_roles {
            powers.push("make accounts or databases".to_owned());
        }
    }
    Ok(pronoia_core::sentence::listed(&powers))
}

/// Why a source does not say what it holds; the words of a database that is not ours are for the log.
fn cannot_say(name: &str, e: &sqlx::Error) -> StoreError {
    tracing::warn!("a source does not say what it holds: {e}");
    StoreError::Refused(format!(
        "{name} does not say what it holds. Whoever runs this server finds the reason in its log."
    ))
}

/// What is no longer reached is the source, not our own database.
fn gone(e: QueryError, name: &str) -> QueryError {
    match e {
        QueryError::Store(StoreError::Unreachable) => QueryError::Store(StoreError::Refused(format!(
            "The connection to {name} broke off. Nothing was kept; try again."
        ))),
        other => other,
    }
}

/// Why a source lets nobody in, in words.
fn not_let_in(e: &sqlx::Error, details: &Details, place: &str) -> String {
    match e {
        sqlx::Error::Io(_) => format!("No database answers at {place}. Check the address and the port."),
        sqlx::Error::Tls(e) => format!(
            "The way to {place} cannot be encrypted as asked ({e}). Ask whoever runs it, or choose another encryption."
        ),
        sqlx::Error::Database(said) => match said.code().as_deref() {
            Some("28P01" | "28000") => {
                format!("{place} does not let {} in with this password. Check both.", details.account)
            }
            Some("3D000") => format!("There is no database “{}” at {place}.", details.database),
            Some("53300") => format!("{place} has no connection free. Try again later."),
            _ => format!("{place} refuses: {}.", said.message().trim_end_matches('.')),
        },
        other => format!("{place} does not answer as a PostgreSQL server does ({other})."),
    }
}

impl Store {
    /// The sources of a workspace, by name.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn sources(&self, workspace_id: i64) -> Result<Vec<source::Model>> {
        Ok(source::Entity::find()
            .filter(source::Column::WorkspaceId.eq(workspace_id))
            .order_by_asc(source::Column::Name)
            .all(&self.db)
            .await?)
    }

    /// A source of this workspace.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn source(&self, workspace_id: i64, id: i64) -> Result<source::Model> {
        let found =
            source::Entity::find_by_id(id).filter(source::Column::WorkspaceId.eq(workspace_id)).one(&self.db).await?;
        found.ok_or(StoreError::NotFound("This source"))
    }

    /// Keeps a source, once it has let us in; its key.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if a detail is wrong, the name is taken, or the
    /// source cannot be reached.
    pub async fn add_source(&self, workspace_id: i64, details: &Details, connector: &Connector) -> Result<i64> {
        details.check()?;
        let others = self.sources(workspace_id).await?;
        if others.len() >= MOST_SOURCES {
            return Err(StoreError::Refused(format!("There are {MOST_SOURCES} sources already; remove one first.")));
        }
        if others.iter().any(|other| other.name == details.name) {
            return Err(StoreError::Refused(format!(
                "There is a source “{}” already. Choose another name, or remove that one first.",
                details.name
            )));
        }
        let mut connection = connector.connect(details, PATIENCE).await?;
        let may_write = may_write(&mut connection).await;
        hang_up(connection).await;
        let may_write = may_write.map_err(|e| cannot_say(&details.name, &e))?;
        let sealed = connector.vault.seal(&details.password, &details.used_with(workspace_id));
        let row = source::ActiveModel {
            workspace_id: Set(workspace_id),
            name: Set(details.name.clone()),
            host: Set(details.host.clone()),
            port: Set(details.port.into()),
            database_name: Set(details.database.clone()),
            account: Set(details.account.clone()),
            encryption: Set(details.encryption.word().into()),
            may_write: Set(may_write),
            sealed: Set(sealed.ok_or_else(|| StoreError::Refused("The password could not be sealed.".into()))?),
            ..Default::default()
        };
        Ok(row.insert(&self.db).await?.id)
    }

    /// Keeps what the account of a source could change there.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn set_may_write(&self, source: &source::Model, may_write: &str) -> Result<()> {
        if source.may_write != may_write {
            let row =
                source::ActiveModel { id: Set(source.id), may_write: Set(may_write.into()), ..Default::default() };
            row.update(&self.db).await?;
        }
        Ok(())
    }

    /// Forgets a source and its password; tables that were read from it stay.
    ///
    /// # Errors
    /// [`StoreError::NotFound`].
    pub async fn remove_source(&self, workspace_id: i64, id: i64) -> Result<()> {
        let source = self.source(workspace_id, id).await?;
        source::Entity::delete_by_id(source.id).exec(&self.db).await?;
        Ok(())
    }
}
