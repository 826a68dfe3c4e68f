//! Streaming rows in: made, filled and sealed in one transaction.

use chrono::{DateTime, Utc};
use pronoia_core::Table;
use pronoia_core::profile::TableProfile;
use pronoia_core::score::{GAIN, PROBABILITY};
use pronoia_core::table::Storage;
use sea_orm::sqlx::{self, AssertSqlSafe, Postgres, Transaction};

use super::read::RowRange;
use super::{ROW, StoredColumn, TableSource, copy, fields_for, quoted, relation};
use crate::erasure::make_blank;
use crate::leases::{Lease, made_of};
use crate::locks::Lock;
use crate::{Result, Store, StoreError};

/// Time between two looks at whether a long statement should stop.
const LOOK: std::time::Duration = std::time::Duration::from_millis(100);

/// Bytes that are sent at a time.
const PIECE: usize = 1 << 20;

/// What is written down together with a sealed table, both or neither.
#[derive(Debug, Clone, Copy)]
pub enum SealedFor {
    /// Nothing but the table.
    Itself,
    /// The upload it was made of is done.
    Upload(i64),
    /// The list it is the scored form of is done.
    List(ScoredList),
    /// The campaign whose arms it holds is drawn.
    Campaign(DrawnCampaign),
}

/// What came of scoring a list.
#[derive(Debug, Clone, Copy)]
pub struct ScoredList {
    /// Which.
    pub list: i64,
    /// How many are to be acted on.
    pub acted: u64,
    /// What that is expected to gain.
    pub gain: Option<f64>,
    /// For how many an amount had no value.
    pub lacking: u64,
    /// How many are left alone because they are not to be contacted.
    pub suppressed: u64,
}

/// What was drawn for a campaign.
#[derive(Debug, Clone, Copy)]
pub struct DrawnCampaign {
    /// Which.
    pub campaign: i64,
    /// How many are acted on.
    pub acted: u64,
    /// How many are held back.
    pub held: u64,
    /// What acting on the former is expected to gain.
    pub gain: Option<f64>,
}

/// What a table is called and where it came from.
#[derive(Debug, Clone, Copy)]
pub struct Label<'a> {
    /// Its name.
    pub name: &'a str,
    /// Where it came from.
    pub source: &'a TableSource,
    /// Whether it was brought in to be scored, or is the result.
    pub is_list: bool,
}

/// A table version in the making. Nobody sees anything of it before
/// [`Importer::seal`], and nothing is left of it if it is dropped.
pub struct Importer {
    transaction: Transaction<'static, Postgres>,
    lease: Option<Lease>,
    id: i64,
    workspace_id: i64,
    columns: Vec<StoredColumn>,
    rows: u64,
    /// Whether its rows can be found by their numbers.
    is_keyed: bool,
}

impl Store {
    /// Begins a table version with the columns of `shape`.
    ///
    /// # Errors
    /// [`crate::StoreError::TooWide`] if there are too many columns.
    pub async fn begin_import(&self, workspace_id: i64, shape: &[(String, pronoia_core::Kind)]) -> Result<Importer> {
        let fields = fields_for(shape.iter().map(|(name, _)| name.as_str()));
        let columns: Vec<StoredColumn> = shape
            .iter()
            .zip(fields)
            .map(|((name, kind), field)| StoredColumn { name: name.clone(), field, kind: *kind })
            .collect();
        own_schema(self, workspace_id).await?;
        // It stays open for as long as rows come.
        let mut transaction = self.for_jobs().pool().begin().await?;
        let id: i64 = sqlx::query_scalar("SELECT nextval('record_table_id_seq')").fetch_one(&mut *transaction).await?;
        let definitions: Vec<String> = columns
            .iter()
            .map(|c| {
                let kind = match c.kind.storage() {
                    Storage::Numbers => "double precision",
                    Storage::Words => "text",
                    Storage::Dates => "date",
                };
                format!("{} {kind}", quoted(&c.field))
            })
            .collect();
        let sql = format!(
            "CREATE TABLE {} ({} bigint NOT NULL, {})",
            relation(workspace_id, id),
            quoted(ROW),
            definitions.join(", ")
        );
        sqlx::query(AssertSqlSafe(sql)).execute(&mut *transaction).await?;
        Ok(Importer { transaction, lease: self.lease(), id, workspace_id, columns, rows: 0, is_keyed: false })
    }
}

impl Store {
    /// The table that the present job made when it was begun before.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn table_of_job(&self) -> Result<Option<i64>> {
        made_of(self, "record_table").await
    }
}

impl Importer {
    /// Adds rows; their columns must be those the import was begun with.
    ///
    /// # Errors
    /// [`crate::StoreError::TooWide`] if a row does not fit into storage.
    pub async fn add(&mut self, rows: &Table) -> Result<()> {
        let sql = format!("COPY {} FROM STDIN (FORMAT binary)", relation(self.workspace_id, self.id));
        let first = self.rows as i64 + 1;
        let mut stream = self.transaction.copy_in_raw(&sql).await?;
        let mut bytes = copy::header();
        copy::encode(rows, first, &mut bytes);
        bytes.extend(copy::trailer());
        for piece in bytes.chunks(PIECE) {
            stream.send(piece).await?;
        }
        stream.finish().await?;
        self.rows += rows.rows() as u64;
        Ok(())
    }

    /// Fills the table with the rows of a query, row number first, as one
    /// statement of the same transaction.
    ///
    /// # Errors
    /// [`StoreError::Stopped`] once `cancelled` says so.
    pub(super) async fn fill(&mut self, store: &Store, query: &str, cancelled: impl Fn() -> bool) -> Result<()> {
        let backend: i32 = sqlx::query_scalar("SELECT pg_backend_pid()").fetch_one(&mut *self.transaction).await?;
        let sql = format!("INSERT INTO {} {query}", relation(self.workspace_id, self.id));
        let filling = sqlx::query(AssertSqlSafe(sql)).execute(&mut *self.transaction);
        tokio::pin!(filling);
        let mut asked = false;
        let done = loop {
            tokio::select! {
                done = &mut filling => break done,
                () = tokio::time::sleep(LOOK) => {
                    if cancelled() && !asked {
                        asked = true;
                        sqlx::query("SELECT pg_cancel_backend($1)").bind(backend).execute(store.pool()).await?;
                    }
                }
            }
        };
        if asked {
            return Err(StoreError::Stopped);
        }
        self.rows += done?.rows_affected();
        Ok(())
    }

    /// Reads all rows back, as they are stored, before they are sealed.
    ///
    /// # Errors
    /// If the database does not answer.
    pub async fn read_back(&mut self) -> Result<Table> {
        self.key().await?;
        super::read::read(&mut self.transaction, self.workspace_id, self.id, &self.columns, RowRange::All).await
    }

    /// Makes the rows of whoever was erased blank, where these rows were read before.
    async fn leave_out_erased(&mut self, sealed_for: SealedFor) -> Result<()> {
        let read: Option<DateTime<Utc>> = match (sealed_for, self.lease) {
            (SealedFor::Upload(upload), _) => {
                let arrived = sqlx::query_scalar("SELECT created_at FROM upload WHERE id = $1").bind(upload);
                arrived.fetch_optional(&mut *self.transaction).await?
            }
            (_, Some(lease)) => {
                let asked = sqlx::query_scalar("SELECT created_at FROM job WHERE id = $1").bind(lease.job);
                asked.fetch_optional(&mut *self.transaction).await?
            }
            (_, None) => None,
        };
        let since = match read {
            Some(read) => read,
            None => sqlx::query_scalar("SELECT now()").fetch_one(&mut *self.transaction).await?,
        };
        let relation = relation(self.workspace_id, self.id);
        make_blank(&mut self.transaction, self.workspace_id, (&relation, &self.columns), since).await?;
        Ok(())
    }

    /// Lets rows be found by their numbers; done once they are all in, which takes half as long as
    /// row by row.
    async fn key(&mut self) -> Result<()> {
        if !self.is_keyed {
            let sql = format!("ALTER TABLE {} ADD PRIMARY KEY ({})", relation(self.workspace_id, self.id), quoted(ROW));
            sqlx::query(AssertSqlSafe(sql)).execute(&mut *self.transaction).await?;
            self.is_keyed = true;
        }
        Ok(())
    }

    /// Makes the table version visible, whole.
    ///
    /// # Errors
    /// If the database does not answer; then nothing is left of it.
    pub async fn seal(mut self, label: Label<'_>, profile: &TableProfile, sealed_for: SealedFor) -> Result<i64> {
        let Label { name, source, is_list } = label;
        self.key().await?;
        if let SealedFor::List(_) = sealed_for {
            // By these a list is looked through, from the greatest down.
            let relation = relation(self.workspace_id, self.id);
            for column in self.columns.iter().filter(|c| [PROBABILITY, GAIN].contains(&c.name.as_str())) {
                let (field, row) = (quoted(&column.field), quoted(ROW));
                let index = format!("CREATE INDEX ON {relation} ({field} DESC NULLS LAST, {row})");
                sqlx::query(AssertSqlSafe(index)).execute(&mut *self.transaction).await?;
            }
        }
        if let Some(lease) = self.lease {
            lease.hold(&mut self.transaction).await?;
        }
        self.leave_out_erased(sealed_for).await?;
        // Whoever seals a version of the same table meanwhile waits here, and gets the next number.
        let version: i32 = sqlx::query_scalar(
            "INSERT INTO table_version (workspace_id, name, newest) VALUES ($1, $2, 1) \
             ON CONFLICT (workspace_id, name) DO UPDATE SET newest = table_version.newest + 1 RETURNING newest",
        )
        .bind(self.workspace_id)
        .bind(name)
        .fetch_one(&mut *self.transaction)
        .await?;
        sqlx::query(
            "INSERT INTO record_table (id, workspace_id, name, version, rows, columns, source, profile, is_list, made_by_job, made_up) \
             VALUES ($1, $2, $3, $9, $4, $5::jsonb, $6::jsonb, $7::jsonb, $8, $10, (SELECT made_up FROM workspace WHERE id = $2))",
        )
        .bind(self.id)
        .bind(self.workspace_id)
        .bind(name)
        .bind(self.rows as i64)
        .bind(serde_json::to_string(&self.columns)?)
        .bind(serde_json::to_string(source)?)
        .bind(serde_json::to_string(profile)?)
        .bind(is_list)
        .bind(version)
        .bind(self.lease.map(|lease| lease.job))
        .execute(&mut *self.transaction)
        .await?;
        match sealed_for {
            SealedFor::Itself => {}
            SealedFor::Upload(upload) => {
                sqlx::query("UPDATE upload SET table_id = $1, state = 'done' WHERE id = $2")
                    .bind(self.id)
                    .bind(upload)
                    .execute(&mut *self.transaction)
                    .await?;
            }
            SealedFor::Campaign(drawn) => {
                sqlx::query("UPDATE campaign SET assigned_id = $1, acted = $2, held = $3, gain = $4 WHERE id = $5")
                    .bind(self.id)
                    .bind(drawn.acted as i64)
                    .bind(drawn.held as i64)
                    .bind(drawn.gain)
                    .bind(drawn.campaign)
                    .execute(&mut *self.transaction)
                    .await?;
            }
            SealedFor::List(scored) => {
                sqlx::query(
                    "UPDATE list SET scored_id = $1, acted = $2, gain = $3, lacking = $4, suppressed = $5, state = 'scored' WHERE id = $6",
                )
                    .bind(self.id)
                    .bind(scored.acted as i64)
                    .bind(scored.gain)
                    .bind(scored.lacking as i64)
                    .bind(scored.suppressed as i64)
                    .bind(scored.list)
                    .execute(&mut *self.transaction)
                    .await?;
            }
        }
        self.transaction.commit().await?;
        Ok(self.id)
    }
}

/// Sees that the schema of a workspace is there. It is made in a transaction of its own, one server after the other:
/// an import holds its own open for as long as rows come, and those of others would wait for it.
async fn own_schema(store: &Store, workspace_id: i64) -> Result<()> {
    let name = format!("workspace_{workspace_id}");
    let there: bool =
        sqlx::query_scalar("SELECT to_regnamespace($1) IS NOT NULL").bind(&name).fetch_one(store.pool()).await?;
    if there {
        return Ok(());
    }
    let mut transaction = store.pool().begin().await?;
    Lock::Names.hold(&mut transaction).await?;
    let create = format!("CREATE SCHEMA IF NOT EXISTS {}", quoted(&name));
    sqlx::query(AssertSqlSafe(create)).execute(&mut *transaction).await?;
    Ok(transaction.commit().await?)
}
