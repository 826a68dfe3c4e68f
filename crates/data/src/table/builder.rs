//! Filling a column row by row.

use arrow_array::builder::{Date32Builder, Float64Builder};

use super::words::WordsBuilder;
use super::{Column, Kind, Storage, Values};

/// A column being filled.
#[derive(Debug)]
pub struct ColumnBuilder {
    name: String,
    kind: Kind,
    rows: Rows,
}

#[derive(Debug)]
enum Rows {
    Numbers(Float64Builder),
    Words(WordsBuilder),
    Dates(Date32Builder),
}

impl ColumnBuilder {
    /// An empty column of that kind.
    pub fn new(name: impl Into<String>, kind: Kind) -> Self {
        let rows = match kind.storage() {
            Storage::Numbers => Rows::Numbers(Float64Builder::new()),
            Storage::Words => Rows::Words(WordsBuilder::default()),
            Storage::Dates => Rows::Dates(Date32Builder::new()),
        };
        Self { name: name.into(), kind, rows }
    }

    /// Adds a missing value.
    pub fn push_missing(&mut self) {
        match &mut self.rows {
            Rows::Numbers(b) => b.append_null(),
            Rows::Words(b) => b.push(None),
            Rows::Dates(b) => b.append_null(),
        }
    }

    /// Adds a number; one that is not finite counts as missing, and so does
    /// any number in a column that holds none.
    pub fn push_number(&mut self, x: f64) {
        match &mut self.rows {
            Rows::Numbers(b) if x.is_finite() => b.append_value(x),
            _ => self.push_missing(),
        }
    }

    /// Adds text; missing in a column that holds none.
    pub fn push_word(&mut self, word: &str) {
        match &mut self.rows {
            Rows::Words(b) => b.push(Some(word)),
            _ => self.push_missing(),
        }
    }

    /// Adds a day; missing in a column that holds none.
    pub fn push_date(&mut self, days: i32) {
        match &mut self.rows {
            Rows::Dates(b) => b.append_value(days),
            _ => self.push_missing(),
        }
    }

    /// The words so far, in a column that holds some.
    pub fn words(&self) -> Option<&WordsBuilder> {
        match &self.rows {
            Rows::Words(words) => Some(words),
            Rows::Numbers(_) | Rows::Dates(_) => None,
        }
    }

    /// Number of rows so far.
    pub fn len(&self) -> usize {
        use arrow_array::builder::ArrayBuilder;
        match &self.rows {
            Rows::Numbers(b) => b.len(),
            Rows::Words(b) => b.len(),
            Rows::Dates(b) => b.len(),
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
            Rows::Numbers(mut b) => Values::Numbers(b.finish()),
            Rows::Words(b) => Values::Words(b.finish()),
            Rows::Dates(mut b) => Values::Dates(b.finish()),
        };
        Column { name: self.name, kind: self.kind, values }
    }
}
