//! Rows out: whole columns for the computation.

use futures_util::TryStreamExt;
use pronoia_core::Table;
use sea_orm::sqlx::PgConnection;
use tokio::sync::mpsc;

use super::{ROW, StoredColumn, copy, quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store, StoreError};

impl Store {
    /// All rows of the columns asked for, in the order of the source.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] for a column that the table does not have.
    pub async fn columns(&self, table: &record_table::Model, names: Option<&[String]>) -> Result<Table> {
        let columns = columns_of(table, names)?;
        self.read_part(table, &columns, RowRange::All).await
    }

    /// The first rows of the columns asked for, in the order of the source.
    ///
    /// # Errors
    /// As [`Store::columns`].
    pub async fn first_rows(&self, table: &record_table::Model, names: &[String], most: u64) -> Result<Table> {
        let mut columns = table.stored_columns()?;
        columns.retain(|c| names.contains(&c.name));
        self.read_part(table, &columns, RowRange::First(most)).await
    }

    /// Every so many rows of the columns asked for, the first of them among
    /// them, in the order of the source.
    ///
    /// # Errors
    /// As [`Store::columns`].
    pub async fn every_nth(&self, table: &record_table::Model, names: &[String], nth: u64) -> Result<Table> {
        let mut columns = table.stored_columns()?;
        columns.retain(|c| names.contains(&c.name));
        self.read_part(table, &columns, RowRange::EveryNth(nth)).await
    }
}

impl Store {
    async fn read_part(&self, table: &record_table::Model, columns: &[StoredColumn], part: RowRange) -> Result<Table> {
        let mut connection = self.pool().acquire().await?;
        let read = read(&mut connection, table.workspace_id, table.id, columns, part).await;
        if read.is_err() {
            // What the database still says of it is not to be taken for an answer to somebody else.
            connection.close_on_drop();
        }
        read
    }
}

/// Bytes that are made columns of at a time.
const PIECE: usize = 1 << 20;

/// Pieces that wait at most.
const PIECES: usize = 4;

/// Which rows are read.
#[derive(Clone, Copy)]
pub(super) enum RowRange {
    All,
    First(u64),
    EveryNth(u64),
}

/// The `COPY` of some columns, in the order of the source.
fn copy_of(workspace_id: i64, table_id: i64, columns: &[StoredColumn], part: RowRange) -> String {
    let fields: Vec<String> = columns.iter().map(|c| quoted(&c.field)).collect();
    let row = quoted(ROW);
    let (some, limit) = match part {
        RowRange::All => (String::new(), String::new()),
        RowRange::First(most) => (String::new(), format!(" LIMIT {most}")),
        RowRange::EveryNth(nth) => (format!(" WHERE ({row} - 1) % {nth} = 0"), String::new()),
    };
    format!(
        "COPY (SELECT {} FROM {}{some} ORDER BY {row}{limit}) TO STDOUT (FORMAT binary)",
        fields.join(", "),
        relation(workspace_id, table_id),
    )
}

/// Sends what a `COPY` gives on in pieces; false if nobody received them to the end.
async fn send(connection: &mut PgConnection, sql: &str, to: mpsc::Sender<Vec<u8>>) -> Result<bool> {
    let mut stream = connection.copy_out_raw(sql).await?;
    let mut piece = Vec::with_capacity(PIECE);
    while let Some(row) = stream.try_next().await? {
        piece.extend_from_slice(&row);
        if piece.len() >= PIECE {
            let full = std::mem::replace(&mut piece, Vec::with_capacity(PIECE));
            if to.send(full).await.is_err() {
                return Ok(false);
            }
        }
    }
    Ok(to.send(piece).await.is_ok())
}

pub(super) async fn read(
    connection: &mut PgConnection,
    workspace_id: i64,
    table_id: i64,
    columns: &[StoredColumn],
    part: RowRange,
) -> Result<Table> {
    if columns.is_empty() {
        return Ok(Table::default());
    }
    // Rows are made columns of on another thread, while more are fetched.
    let mut decoder = copy::Decoder::new(columns);
    let (sender, mut pieces) = mpsc::channel::<Vec<u8>>(PIECES);
    let decoding = tokio::task::spawn_blocking(move || {
        while let Some(piece) = pieces.blocking_recv() {
            decoder.push(&piece)?;
        }
        decoder.finish()
    });
    // Why nobody received them to the end, whoever decodes them says.
    send(connection, &copy_of(workspace_id, table_id, columns, part), sender).await?;
    decoding.await.map_err(broke_off)?
}

fn broke_off(e: tokio::task::JoinError) -> StoreError {
    StoreError::Damaged(format!("reading broke off: {e}"))
}

/// Rows on their way, some at a time; no more are fetched than somebody takes.
#[derive(Debug)]
pub struct RowParts(mpsc::Receiver<Result<Table>>);

impl RowParts {
    /// As [`Parts::next`], for computations that have a thread of their own.
    ///
    /// # Errors
    /// As [`Parts::next`].
    pub fn wait(&mut self) -> Result<Option<Table>> {
        self.0.blocking_recv().transpose()
    }

    /// The next rows, in the order of the source; at least one part comes, be it without rows.
    ///
    /// # Errors
    /// If the database does not answer, or what it answers is damaged.
    pub async fn next(&mut self) -> Result<Option<Table>> {
        self.0.recv().await.transpose()
    }
}

impl Store {
    /// The rows of the columns asked for, about so many at a time.
    ///
    /// # Errors
    /// As [`Store::columns`].
    pub async fn parts(&self, table: &record_table::Model, names: Option<&[String]>, rows: usize) -> Result<RowParts> {
        let columns = columns_of(table, names)?;
        let mut connection = self.pool().acquire().await?;
        let sql = copy_of(table.workspace_id, table.id, &columns, RowRange::All);
        let (sender, mut pieces) = mpsc::channel::<Vec<u8>>(PIECES);
        let (out, parts) = mpsc::channel::<Result<Table>>(1);
        let failing = out.clone();
        tokio::task::spawn_blocking(move || {
            let mut decoder = copy::Decoder::new(&columns);
            let mut sent = false;
            while let Some(piece) = pieces.blocking_recv() {
                let part = decoder
                    .push(&piece)
                    .and_then(|()| Ok(if decoder.rows() >= rows { Some(decoder.take()?) } else { None }));
                if let Some(part) = part.transpose() {
                    sent = true;
                    let is_damaged = part.is_err();
                    if out.blocking_send(part).is_err() || is_damaged {
                        return;
                    }
                }
            }
            if !sent || decoder.rows() > 0 {
                let _ = out.blocking_send(decoder.finish());
            }
        });
        tokio::spawn(async move {
            match send(&mut connection, &sql, sender).await {
                Ok(true) => {}
                // What is still on its way is nobody's; the next one gets another connection.
                Ok(false) => connection.close_on_drop(),
                Err(e) => {
                    // What the database still says of it is not to be taken for an answer to somebody else.
                    connection.close_on_drop();
                    // Of nobody who is gone, it is known already.
                    drop(failing.send(Err(e)).await);
                }
            }
        });
        Ok(RowParts(parts))
    }
}

/// The columns of these names, in the order of the table.
fn columns_of(table: &record_table::Model, names: Option<&[String]>) -> Result<Vec<StoredColumn>> {
    let mut columns = table.stored_columns()?;
    if let Some(names) = names {
        columns.retain(|c| names.contains(&c.name));
        if columns.len() < names.len() {
            return Err(StoreError::NotFound("A column of the table"));
        }
    }
    Ok(columns)
}
