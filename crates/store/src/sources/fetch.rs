//! The whole answer of a source, put down as an Arrow file, so that it comes in
//! like any other.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use arrow_array::RecordBatch;
use arrow_ipc::writer::FileWriter;
use arrow_schema::{ArrowError, Field, Schema};
use futures_util::TryStreamExt;
use pronoia_core::number::count;
use pronoia_core::{Cancelled, Progress};
use sea_orm::sqlx::{self, AssertSqlSafe, Column, Executor, PgConnection, SqlSafeStr, Statement, TypeInfo};
use thiserror::Error;
use tokio::sync::mpsc;

use super::arrow_types::{ArrowType, ColumnBuilder};
use super::{Connector, gone, hang_up};
use crate::entity::source;
use crate::queries::{self, Parsed, QueryError, QueryLimits};
use crate::{Result, StoreError};

/// Rows of a batch in the file.
const BATCH: usize = 8_192;

/// How often it is looked whether somebody wants to stop.
const GLANCE: Duration = Duration::from_millis(200);

/// What fetching may cost.
#[derive(Debug, Clone, Copy)]
pub struct MostFetched {
    /// How long it may take.
    pub time: Duration,
    /// Bytes of the file.
    pub bytes: u64,
}

/// What was fetched.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fetched {
    /// Rows.
    pub rows: u64,
    /// Bytes of the file.
    pub bytes: u64,
    /// Columns that were left out, because they hold bytes.
    pub left_out: Vec<String>,
}

/// Why nothing was fetched.
#[derive(Debug, Error)]
pub enum FetchError {
    /// The source refuses.
    #[error(transparent)]
    Query(#[from] QueryError),
    /// Somebody stopped it.
    #[error(transparent)]
    Stopped(#[from] Cancelled),
}

impl From<StoreError> for FetchError {
    fn from(e: StoreError) -> Self {
        Self::Query(e.into())
    }
}

impl Connector {
    /// Writes all that a SELECT gives at a source into an Arrow file.
    ///
    /// # Errors
    /// [`FetchError`]; then the file may be there, and is worth nothing.
    pub async fn fetch(
        &self,
        source: &source::Model,
        sql: &str,
        path: &Path,
        most: &MostFetched,
        progress: &dyn Progress,
    ) -> std::result::Result<Fetched, FetchError> {
        let parsed = Parsed::of(sql)?;
        progress.tell(&format!("Asking {}", source.name), 0.0);
        let mut connection = self.connect(&self.details(source)?, most.time).await?;
        let fetched = whole(&mut connection, &parsed, path, most, progress).await;
        hang_up(connection).await;
        fetched.map_err(|e| match e {
            FetchError::Query(e) => FetchError::Query(gone(e, &source.name)),
            stopped => stopped,
        })
    }
}

async fn whole(
    connection: &mut PgConnection,
    parsed: &Parsed<'_>,
    path: &Path,
    most: &MostFetched,
    progress: &dyn Progress,
) -> std::result::Result<Fetched, FetchError> {
    let limits = QueryLimits { time: most.time, rows: usize::MAX, bytes: usize::MAX };
    let rewritten = super::written_anew(connection, parsed, &limits).await?;
    let statement = rewritten.sql();
    let refused = |e: sqlx::Error| FetchError::Query(queries::refusal(&e, (parsed, &rewritten), 0, &limits));
    let prepared =
        (&mut *connection).prepare(AssertSqlSafe(statement.to_owned()).into_sql_str()).await.map_err(refused)?;
    let (mut fields, mut casts, mut left_out) = (Vec::new(), Vec::new(), Vec::new());
    for (at, column) in prepared.columns().iter().enumerate() {
        let type_name = column.type_info().name();
        match ArrowType::of(type_name) {
            Some(carried) => {
                fields.push((column.name().to_owned(), carried));
                casts.push(carried.cast(&format!("q.c{at}"), type_name));
            }
            None => left_out.push(column.name().to_owned()),
        }
    }
    if fields.is_empty() {
        let sentence = "No column of the answer holds a value that can be read.".to_owned();
        return Err(QueryError::Question { sentence, place: None }.into());
    }
    let names: Vec<String> = (0..prepared.columns().len()).map(|at| format!("c{at}")).collect();
    // Two columns of one name are told apart by their place.
    let select = format!("SELECT {} FROM ({statement}\n) AS q({})", casts.join(", "), names.join(", "));
    let expected = expected_rows(connection, statement).await.map_err(refused)?;
    connection.execute(sqlx::query("BEGIN READ ONLY")).await.map_err(refused)?;

    let schema = fields.iter().map(|(name, carried)| Field::new(name, carried.data_type(), true)).collect::<Vec<_>>();
    let (sender, batches) = mpsc::channel(2);
    let (path, most_bytes) = (path.to_owned(), most.bytes);
    let writer = tokio::task::spawn_blocking(move || write(&path, Arc::new(Schema::new(schema)), batches, most_bytes));
    let read = async {
        let mut answer = sqlx::query(AssertSqlSafe(select)).fetch(&mut *connection);
        let mut filling: Vec<ColumnBuilder> = fields.iter().map(|(_, carried)| ColumnBuilder::new(*carried)).collect();
        let mut rows = 0u64;
        loop {
            let row = loop {
                match tokio::time::timeout(GLANCE, answer.try_next()).await {
                    Ok(row) => break row.map_err(refused)?,
                    Err(_) => progress.go_on()?,
                }
            };
            if let Some(row) = &row {
                for (at, column) in filling.iter_mut().enumerate() {
                    column.push(row, at).map_err(refused)?;
                }
                rows += 1;
            }
            if row.is_none() || rows.is_multiple_of(BATCH as u64) {
                let arrays: Vec<_> = filling.iter_mut().map(ColumnBuilder::take).collect();
                // Nobody receives any more once the writing has failed, which says why.
                if sender.send(arrays).await.is_err() {
                    break;
                }
                progress.go_on()?;
                progress.tell(&format!("{} rows fetched", count(rows)), (rows as f64 / expected).min(0.99));
            }
            if row.is_none() {
                break;
            }
        }
        Ok::<_, FetchError>(rows)
    }
    .await;
    drop(sender);
    let written = writer.await.map_err(|e| StoreError::Refused(format!("Writing broke off: {e}.")))?;
    let rows = read?;
    let bytes = written?;
    Ok(Fetched { rows, bytes, left_out })
}

/// Rows that the source expects to give.
async fn expected_rows(connection: &mut PgConnection, statement: &str) -> std::result::Result<f64, sqlx::Error> {
    let explained: serde_json::Value =
        sqlx::query_scalar(AssertSqlSafe(format!("EXPLAIN (FORMAT JSON) {statement}"))).fetch_one(connection).await?;
    let rows = explained.pointer("/0/Plan/Plan Rows").and_then(serde_json::Value::as_f64);
    Ok(rows.unwrap_or(1.0).max(1.0))
}

/// Writes batches into a file until there are no more; its size.
fn write(
    path: &Path,
    schema: Arc<Schema>,
    mut batches: mpsc::Receiver<Vec<arrow_array::ArrayRef>>,
    most_bytes: u64,
) -> Result<u64> {
    let not_kept = |e: io::Error| match e.kind() {
        io::ErrorKind::StorageFull => StoreError::Refused(
            "The disk that uploads lie on is full. Nothing was kept; free some space and try again.".into(),
        ),
        _ => StoreError::Refused(format!("The answer could not be written down: {e}. Nothing was kept.")),
    };
    let not_written = |e: ArrowError| match e {
        ArrowError::IoError(_, e) => not_kept(e),
        other => StoreError::Refused(format!("The answer could not be written down: {other}. Nothing was kept.")),
    };
    let file = Counted { file: File::create(path).map_err(not_kept)?, bytes: 0 };
    let mut writer = FileWriter::try_new(BufWriter::new(file), &schema).map_err(not_written)?;
    while let Some(arrays) = batches.blocking_recv() {
        let batch = RecordBatch::try_new(Arc::clone(&schema), arrays).map_err(not_written)?;
        writer.write(&batch).map_err(not_written)?;
        if writer.get_ref().get_ref().bytes > most_bytes {
            return Err(StoreError::Refused(format!(
                "The answer is larger than the {} megabytes that are allowed. Nothing was kept; ask for fewer rows or columns, or for sums.",
                count(most_bytes / 1_000_000)
            )));
        }
    }
    writer.finish().map_err(not_written)?;
    let mut buffer = writer.into_inner().map_err(not_written)?;
    buffer.flush().map_err(not_kept)?;
    Ok(buffer.get_ref().bytes)
}

/// A file that knows how much was written into it.
struct Counted {
    file: File,
    bytes: u64,
}

impl Write for Counted {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.file.write(bytes)?;
        self.bytes += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}
