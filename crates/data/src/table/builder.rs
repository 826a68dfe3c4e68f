//! Filling a column row by row.

use arrow_array::builder::{Date32Builder, Float64Builder};

use super::words::WordsBuilder;
use super::{Column, ColumnValues, Kind, Storage};

/// A column being filled.
#[derive(Debug)]
pub struct ColumnBuilder {
    name: String,
    kind: Kind,
    rows: ColumnRows,
}

#[derive(Debug)]
enum ColumnRows {
    Numbers(Float64Builder),
    Words(WordsBuilder),
    Dates(Date32Builder),
}

impl ColumnBuilder {
    /// An empty column of that kind.
    pub fn new(name: impl Into<String>, kind: Kind) -> Self {
        let rows = match kind.storage() {
            Storage::Numbers => ColumnRows::Numbers(Float64Builder::new()),
            Storage::Words => ColumnRows::Words(WordsBuilder::default()),
            Storage::Dates => ColumnRows::Dates(Date32Builder::new()),
        };
        Self { name: name.into(), kind, rows }
    }

    /// Adds a missing value.
    pub fn push_missing(&mut self) {
        match &mut self.rows {
            ColumnRows::Numbers(b) => b.append_null(),
            ColumnRows::Words(b) => b.push(None),
            ColumnRows::Dates(b) => b.append_null(),
        }
    }

    /// Adds a number; one that is not finite counts as missing, and so does
    /// any number in a column that holds none.
    pub fn push_number(&mut self, x: f64) {
        match &mut self.rows {
            ColumnRows::Numbers(b) if x.is_finite() => b.append_value(x),
            _ => self.push_missing(),
        }
    }

    /// Adds text; missing in a column that holds none.
    pub fn push_word(&mut self, word: &str) {
        match &mut self.rows {
            ColumnRows::Words(b) => b.push(Some(word)),
            _ => self.push_missing(),
        }
    }

    /// Adds a day; missing in a column that holds none.
    pub fn push_date(&mut self, days: i32) {
        match &mut self.rows {
            ColumnRows::Dates(b) => b.append_value(days),
            _ => self.push_missing(),
        }
    }

    /// The words so far, in a column that holds some.
    pub fn words(&self) -> Option<&WordsBuilder> {
        match &self.rows {
            ColumnRows::Words(words) => Some(words),
            ColumnRows::Numbers(_) | ColumnRows::Dates(_) => None,
        }
    }

    /// Number of rows so far.
    pub fn len(&self) -> usize {
        use arrow_array::builder::ArrayBuilder;
        match &self.rows {
            ColumnRows::Numbers(b) => b.len(),
            ColumnRows::Words(b) => b.len(),
            ColumnRows::Dates(b) => b.len(),
        }
    }

    /// Whether nothing was added yet.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The column so far; the next values go into another one like it.
    pub fn take(&mut self) -> Column {
        let next = Self::new(self.name.clone(), self.kind);
        std::mem::replace(self, next).finish()
    }

    /// The column.
    pub fn finish(self) -> Column {
        let values = match self.rows {
            ColumnRows::Numbers(mut b) => ColumnValues::Numbers(b.finish()),
            ColumnRows::Words(b) => ColumnValues::Words(b.finish()),
            ColumnRows::Dates(mut b) => ColumnValues::Dates(b.finish()),
        };
        Column { name: self.name, kind: self.kind, values }
    }
}
