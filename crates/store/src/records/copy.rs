//! PostgreSQL's binary COPY form, both ways.

use std::ops::Range;

use pronoia_core::Table;
use pronoia_core::table::{ColumnBuilder, ColumnValues, Storage};

use super::StoredColumn;
use crate::{Result, StoreError};

/// The first bytes: signature, no flags, no extension.
const HEADER: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";

/// Days from 1970-01-01, where we count from, to 2000-01-01, where PostgreSQL does.
const EPOCH_DAYS: i32 = 10_957;

/// What stands before the first row.
pub(super) fn header() -> Vec<u8> {
    HEADER.to_vec()
}

/// What stands after the last row.
pub(super) fn trailer() -> Vec<u8> {
    (-1i16).to_be_bytes().to_vec()
}

/// Writes rows; each begins with its number, counted on from `first`.
pub(super) fn encode(table: &Table, first: i64, out: &mut Vec<u8>) {
    let fields = (table.columns().len() + 1) as i16;
    for row in 0..table.rows() {
        out.extend_from_slice(&fields.to_be_bytes());
        field(out, &(first + row as i64).to_be_bytes());
        for column in table.columns() {
            match &column.values {
                ColumnValues::Numbers(_) => match column.number(row) {
                    Some(x) => field(out, &x.to_be_bytes()),
                    None => null(out),
                },
                ColumnValues::Words(words) => match words.get(row) {
                    Some(word) => field(out, word.as_bytes()),
                    None => null(out),
                },
                ColumnValues::Dates(_) => match column.number(row) {
                    Some(days) => field(out, &(days as i32 - EPOCH_DAYS).to_be_bytes()),
                    None => null(out),
                },
            }
        }
    }
}

fn field(out: &mut Vec<u8>, bytes: &[u8]) {
    out.extend_from_slice(&(bytes.len() as i32).to_be_bytes());
    out.extend_from_slice(bytes);
}

fn null(out: &mut Vec<u8>) {
    out.extend_from_slice(&(-1i32).to_be_bytes());
}

/// Reads rows from pieces of a stream, wherever the pieces are cut.
pub(super) struct Decoder {
    columns: Vec<(ColumnBuilder, Storage)>,
    rest: Vec<u8>,
    /// Where the values of a row lie; kept from row to row.
    spans: Vec<Option<Range<usize>>>,
    begun: bool,
}

impl Decoder {
    pub fn new(columns: &[StoredColumn]) -> Self {
        let columns = columns.iter().map(|c| (ColumnBuilder::new(c.name.clone(), c.kind), c.kind.storage())).collect();
        Self { columns, rest: Vec::new(), spans: Vec::new(), begun: false }
    }

    /// Takes in the next piece.
    pub fn push(&mut self, piece: &[u8]) -> Result<()> {
        self.rest.extend_from_slice(piece);
        let mut at = 0;
        if !self.begun {
            if self.rest.len() < HEADER.len() {
                return Ok(());
            }
            at = HEADER.len();
            self.begun = true;
        }
        while let Some(end) = self.row(at)? {
            at = end;
        }
        self.rest.drain(..at);
        Ok(())
    }

    /// Reads the row that begins at `at`, if it is there whole; where it ends.
    fn row(&mut self, at: usize) -> Result<Option<usize>> {
        let bytes = &self.rest;
        let damaged = || StoreError::Damaged("a row came back in another shape than it was written".into());
        let Some(count) = bytes.get(at..at + 2) else { return Ok(None) };
        let count = i16::from_be_bytes([count[0], count[1]]);
        if count == -1 {
            return Ok(None);
        }
        if count as usize != self.columns.len() {
            return Err(damaged());
        }
        let spans = &mut self.spans;
        spans.clear();
        let mut next = at + 2;
        for _ in 0..count {
            let Some(length) = bytes.get(next..next + 4) else { return Ok(None) };
            let length = i32::from_be_bytes([length[0], length[1], length[2], length[3]]);
            next += 4;
            if length < 0 {
                spans.push(None);
                continue;
            }
            if bytes.len() < next + length as usize {
                return Ok(None);
            }
            spans.push(Some(next..next + length as usize));
            next += length as usize;
        }
        for (span, (builder, storage)) in spans.drain(..).zip(&mut self.columns) {
            let Some(span) = span else {
                builder.push_missing();
                continue;
            };
            let value = &bytes[span];
            match storage {
                Storage::Numbers => builder.push_number(f64::from_be_bytes(value.try_into().map_err(|_| damaged())?)),
                Storage::Dates => builder
                    .push_date(i32::from_be_bytes(value.try_into().map_err(|_| damaged())?).saturating_add(EPOCH_DAYS)),
                Storage::Words => builder.push_word(std::str::from_utf8(value).map_err(|_| damaged())?),
            }
        }
        Ok(Some(next))
    }

    /// How many rows were read since some were taken.
    pub fn rows(&self) -> usize {
        self.columns.first().map_or(0, |(builder, _)| builder.len())
    }

    /// The rows read so far as a table; the next ones are gathered anew.
    pub fn take(&mut self) -> Result<Table> {
        let taken = self.columns.iter_mut().map(|(builder, _)| builder.take()).collect();
        Table::new(taken).map_err(StoreError::Damaged)
    }

    /// The rows as a table.
    pub fn finish(self) -> Result<Table> {
        Table::new(self.columns.into_iter().map(|(b, _)| b.finish()).collect()).map_err(StoreError::Damaged)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pronoia_core::Kind;

    #[test]
    fn rows_come_back_as_they_were_wherever_the_stream_is_cut() {
        let mut number = ColumnBuilder::new("fee", Kind::Number);
        let mut word = ColumnBuilder::new("clinic", Kind::Category);
        let mut day = ColumnBuilder::new("joined", Kind::Date);
        for (x, w, d) in [(Some(1.5), Some("Åsby"), Some(19_800)), (None, None, None), (Some(-0.1), Some(""), Some(-1))]
        {
            match x {
                Some(x) => number.push_number(x),
                None => number.push_missing(),
            }
            match w {
                Some(w) => word.push_word(w),
                None => word.push_missing(),
            }
            match d {
                Some(d) => day.push_date(d),
                None => day.push_missing(),
            }
        }
        let table = Table::new(vec![number.finish(), word.finish(), day.finish()]).expect("columns");
        let mut bytes = header();
        let mut body = Vec::new();
        encode(&table, 1, &mut body);
        // What comes back has no row number: take it out as SELECT does.
        let mut at = 0;
        while at < body.len() {
            bytes.extend_from_slice(&3i16.to_be_bytes());
            at += 2 + 4 + 8;
            for _ in 0..3 {
                let length = i32::from_be_bytes(body[at..at + 4].try_into().expect("four"));
                let end = at + 4 + length.max(0) as usize;
                bytes.extend_from_slice(&body[at..end]);
                at = end;
            }
        }
        bytes.extend(trailer());
        let columns: Vec<StoredColumn> = table
            .columns()
            .iter()
            .map(|c| StoredColumn { name: c.name.clone(), field: c.name.clone(), kind: c.kind })
            .collect();
        for cut in 1..bytes.len() {
            let mut decoder = Decoder::new(&columns);
            decoder.push(&bytes[..cut]).expect("first piece");
            decoder.push(&bytes[cut..]).expect("second piece");
            let back = decoder.finish().expect("table");
            for (a, b) in table.columns().iter().zip(back.columns()) {
                for row in 0..3 {
                    assert_eq!(a.text(row), b.text(row), "cut at {cut}");
                }
            }
        }
    }
}
