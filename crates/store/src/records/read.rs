//! Rows out: whole columns for the computation.

use futures_util::TryStreamExt;
use pronoia_core::Table;
use sea_orm::sqlx::PgConnection;

use super::{ROW, StoredColumn, copy, quoted, relation};
use crate::entity::record_table;
use crate::{Result, Store, StoreError};

impl Store {
    /// All rows of the columns asked for, in the order of the source.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] for a column that the table does not have.
    pub async fn columns(&self, table: &record_table::Model, names: Option<&[String]>) -> Result<Table> {
        let mut columns = table.stored_columns()?;
        if let Some(names) = names {
            columns.retain(|c| names.contains(&c.name));
            if columns.len() < names.len() {
                return Err(StoreError::NotFound("A column of the table"));
            }
        }
        let mut connection = self.pool().acquire().await?;
        read(&mut connection, table.workspace_id, table.id, &columns, Part::All).await
    }

    /// The first rows of the columns asked for, in the order of the source.
    ///
    /// # Errors
    /// As [`Store::columns`].
    pub async fn first_rows(&self, table: &record_table::Model, names: &[String], most: u64) -> Result<Table> {
        let mut columns = table.stored_columns()?;
        columns.retain(|c| names.contains(&c.name));
        let mut connection = self.pool().acquire().await?;
        read(&mut connection, table.workspace_id, table.id, &columns, Part::First(most)).await
    }

    /// Every so many rows of the columns asked for, the first of them among
    /// them, in the order of the source.
    ///
    /// # Errors
    /// As [`Store::columns`].
    pub async fn every_nth(&self, table: &record_table::Model, names: &[String], nth: u64) -> Result<Table> {
        let mut columns = table.stored_columns()?;
        columns.retain(|c| names.contains(&c.name));
        let mut connection = self.pool().acquire().await?;
        read(&mut connection, table.workspace_id, table.id, &columns, Part::EveryNth(nth)).await
    }
}

/// Bytes that are made columns of at a time.
const PIECE: usize = 1 << 20;

/// Pieces that wait at most.
const PIECES: usize = 4;

/// Which rows are read.
#[derive(Clone, Copy)]
pub(super) enum Part {
    All,
    First(u64),
    EveryNth(u64),
}

pub(super) async fn read(
    connection: &mut PgConnection,
    workspace_id: i64,
    table_id: i64,
    columns: &[StoredColumn],
    part: Part,
) -> Result<Table> {
    if columns.is_empty() {
        return Ok(Table::default());
    }
    let fields: Vec<String> = columns.iter().map(|c| quoted(&c.field)).collect();
    let row = quoted(ROW);
    let (some, limit) = match part {
        Part::All => (String::new(), String::new()),
        Part::First(most) => (String::new(), format!(" LIMIT {most}")),
        Part::EveryNth(nth) => (format!(" WHERE ({row} - 1) % {nth} = 0"), String::new()),
    };
    let sql = format!(
        "COPY (SELECT {} FROM {}{some} ORDER BY {row}{limit}) TO STDOUT (FORMAT binary)",
        fields.join(", "),
        relation(workspace_id, table_id),
    );
    // Rows are made columns of on another thread, while more are fetched.
    let mut decoder = copy::Decoder::new(columns);
    let (sender, mut pieces) = tokio::sync::mpsc::channel::<Vec<u8>>(PIECES);
    let decoding = tokio::task::spawn_blocking(move || {
        while let Some(piece) = pieces.blocking_recv() {
            decoder.push(&piece)?;
        }
        decoder.finish()
    });
    let mut stream = connection.copy_out_raw(&sql).await?;
    let mut piece = Vec::with_capacity(PIECE);
    while let Some(row) = stream.try_next().await? {
        piece.extend_from_slice(&row);
        if piece.len() >= PIECE {
            let full = std::mem::replace(&mut piece, Vec::with_capacity(PIECE));
            // Nobody receives any more once a piece was damaged, which is told below.
            if sender.send(full).await.is_err() {
                break;
            }
        }
    }
    drop(stream);
    let _ = sender.send(piece).await;
    drop(sender);
    decoding.await.map_err(|e| StoreError::Damaged(format!("reading broke off: {e}")))?
}
