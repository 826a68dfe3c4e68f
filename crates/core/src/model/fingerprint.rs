//! Which records a model was fitted to, as a short text that differs when they do.

use arrow_array::Array;
use sha2::{Digest, Sha256};

use super::hex;
use pronoia_data::Table;
use pronoia_data::table::{Column, ColumnValues};

/// Bytes handed to the digest at a time.
const CHUNK: usize = 1 << 16;

/// A digest (SHA-256, in hexadecimal) of the names, kinds and values of the columns
/// given in the rows given, in their order.
pub(super) fn fingerprint(table: &Table, columns: &[String], rows: &[usize]) -> String {
    let mut digest = Sha256::new();
    let mut chunk = Vec::with_capacity(CHUNK + 64);
    digest.update((rows.len() as u64).to_le_bytes());
    for column in columns.iter().filter_map(|name| table.column(name)) {
        text(column.name.as_bytes(), &mut chunk);
        text(column.kind.word().as_bytes(), &mut chunk);
        for &row in rows {
            value(column, row, &mut chunk);
            if chunk.len() >= CHUNK {
                digest.update(&chunk);
                chunk.clear();
            }
        }
    }
    digest.update(&chunk);
    hex(&digest.finalize())
}

/// A mark for missing or not, and the value.
fn value(column: &Column, row: usize, to: &mut Vec<u8>) {
    match &column.values {
        ColumnValues::Numbers(a) if a.is_valid(row) => {
            to.push(1);
            to.extend_from_slice(&a.value(row).to_le_bytes());
        }
        ColumnValues::Dates(a) if a.is_valid(row) => {
            to.push(1);
            to.extend_from_slice(&a.value(row).to_le_bytes());
        }
        ColumnValues::Words(words) => match words.get(row) {
            Some(word) => {
                to.push(1);
                text(word.as_bytes(), to);
            }
            None => to.push(0),
        },
        _ => to.push(0),
    }
}

/// Length and bytes, so that no two lists of texts look the same.
fn text(bytes: &[u8], to: &mut Vec<u8>) {
    to.extend_from_slice(&(bytes.len() as u64).to_le_bytes());
    to.extend_from_slice(bytes);
}
