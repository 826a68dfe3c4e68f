//! Columns in memory: Arrow arrays with a name and a kind.

mod builder;
mod words;

use std::fmt;
use std::str::FromStr;

use arrow_array::{Array, Date32Array, Float64Array};
use serde::{Deserialize, Serialize};

pub use builder::ColumnBuilder;
pub use words::Words;
pub use words::WordsBuilder;

/// What the values of a column mean to the analyst.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// A quantity: differences and averages mean something.
    Number,
    /// Categories with an order.
    Ordered,
    /// Categories without an order.
    Category,
    /// Two values that answer a question.
    YesNo,
    /// A calendar day.
    Date,
    /// Digits or letters that name something and measure nothing.
    Code,
    /// Free text.
    Text,
}

impl Kind {
    /// Every kind, in the order in which the pages offer them.
    pub const ALL: [Kind; 7] =
        [Kind::Number, Kind::Ordered, Kind::Category, Kind::YesNo, Kind::Date, Kind::Code, Kind::Text];

    /// The word for it on the pages.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Number => "number",
            Kind::Ordered => "ordered",
            Kind::Category => "category",
            Kind::YesNo => "yes/no",
            Kind::Date => "date",
            Kind::Code => "code",
            Kind::Text => "text",
        }
    }

    /// Whether its values are quantities, to be set flush right.
    pub fn is_number(self) -> bool {
        self == Kind::Number
    }

    /// How values of this kind are held.
    pub fn storage(self) -> Storage {
        match self {
            Kind::Number => Storage::Numbers,
            Kind::Date => Storage::Dates,
            _ => Storage::Words,
        }
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

impl FromStr for Kind {
    type Err = String;

    fn from_str(word: &str) -> Result<Self, Self::Err> {
        Kind::ALL.into_iter().find(|k| k.word() == word).ok_or_else(|| format!("“{word}” is not a kind of column"))
    }
}

/// The three ways in which values are held in memory and in storage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Storage {
    /// Double precision.
    Numbers,
    /// Text, each distinct value once.
    Words,
    /// Days since 1970-01-01.
    Dates,
}

/// The values of one column; missing values are Arrow nulls.
#[derive(Debug, Clone)]
pub enum ColumnValues {
    /// Quantities. Never holds a NaN or an infinity that is not null.
    Numbers(Float64Array),
    /// Everything written in letters, as a dictionary.
    Words(Words),
    /// Calendar days.
    Dates(Date32Array),
}

/// One column: a name, what it means, and its values.
#[derive(Debug, Clone)]
pub struct Column {
    /// The name, as it stood in the source.
    pub name: String,
    /// What its values mean.
    pub kind: Kind,
    /// The values themselves.
    pub values: ColumnValues,
}

impl Column {
    /// Number of rows, missing values included.
    pub fn len(&self) -> usize {
        match &self.values {
            ColumnValues::Numbers(a) => a.len(),
            ColumnValues::Words(w) => w.len(),
            ColumnValues::Dates(a) => a.len(),
        }
    }

    /// Whether there is no row.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Number of missing values.
    pub fn missing(&self) -> usize {
        match &self.values {
            ColumnValues::Numbers(a) => a.null_count(),
            ColumnValues::Words(w) => w.null_count(),
            ColumnValues::Dates(a) => a.null_count(),
        }
    }

    /// The number in `row`; none if missing or not held as a number or date.
    /// A date counts as its days since 1970-01-01.
    pub fn number(&self, row: usize) -> Option<f64> {
        match &self.values {
            ColumnValues::Numbers(a) => a.is_valid(row).then(|| a.value(row)),
            ColumnValues::Dates(a) => a.is_valid(row).then(|| f64::from(a.value(row))),
            ColumnValues::Words(_) => None,
        }
    }

    /// The value in `row` written as text; none if missing.
    pub fn text(&self, row: usize) -> Option<String> {
        match &self.values {
            ColumnValues::Numbers(a) => a.is_valid(row).then(|| written_number(a.value(row))),
            ColumnValues::Words(w) => w.get(row).map(str::to_owned),
            ColumnValues::Dates(a) => a.is_valid(row).then(|| written_date(a.value(row))),
        }
    }

    /// The rows of all parts of a column, one after the other; none without parts.
    pub fn concat(parts: &[&Column]) -> Option<Column> {
        let first = parts.first()?;
        let values = match first.values {
            ColumnValues::Numbers(_) => {
                ColumnValues::Numbers(parts.iter().flat_map(|p| p.as_numbers()).flatten().collect())
            }
            ColumnValues::Dates(_) => ColumnValues::Dates(parts.iter().flat_map(|p| p.as_dates()).flatten().collect()),
            ColumnValues::Words(_) => {
                ColumnValues::Words(Words::concat(&parts.iter().filter_map(|p| p.as_words()).collect::<Vec<_>>()))
            }
        };
        Some(Column { name: first.name.clone(), kind: first.kind, values })
    }

    fn as_numbers(&self) -> Option<&Float64Array> {
        if let ColumnValues::Numbers(a) = &self.values { Some(a) } else { None }
    }

    fn as_dates(&self) -> Option<&Date32Array> {
        if let ColumnValues::Dates(a) = &self.values { Some(a) } else { None }
    }

    fn as_words(&self) -> Option<&Words> {
        if let ColumnValues::Words(w) = &self.values { Some(w) } else { None }
    }

    /// As [`Column::take`], holding no words of the other rows.
    fn apart(&self, rows: &[usize]) -> Column {
        match &self.values {
            ColumnValues::Words(w) => {
                let values = ColumnValues::Words(Words::from_rows(rows.iter().map(|&row| w.get(row))));
                Column { name: self.name.clone(), kind: self.kind, values }
            }
            ColumnValues::Numbers(_) | ColumnValues::Dates(_) => self.take(rows),
        }
    }

    /// The same column with only the rows given, in the order given.
    pub fn take(&self, rows: &[usize]) -> Column {
        let values = match &self.values {
            ColumnValues::Numbers(a) => {
                ColumnValues::Numbers(rows.iter().map(|&r| a.is_valid(r).then(|| a.value(r))).collect())
            }
            ColumnValues::Words(w) => ColumnValues::Words(w.take(rows)),
            ColumnValues::Dates(a) => {
                ColumnValues::Dates(rows.iter().map(|&r| a.is_valid(r).then(|| a.value(r))).collect())
            }
        };
        Column { name: self.name.clone(), kind: self.kind, values }
    }
}

/// A number as it is written into files: the shortest text that reads back the same.
pub fn written_number(x: f64) -> String {
    format!("{x}")
}

/// A day as ISO 8601.
pub fn written_date(days: i32) -> String {
    chrono::NaiveDate::from_epoch_days(days).map_or_else(|| days.to_string(), |d| d.to_string())
}

/// Columns of equal length.
#[derive(Debug, Clone, Default)]
pub struct Table {
    columns: Vec<Column>,
    rows: usize,
}

impl Table {
    /// Puts columns together.
    ///
    /// # Errors
    /// A sentence if two columns differ in length or share a name.
    pub fn new(columns: Vec<Column>) -> Result<Self, String> {
        let rows = columns.first().map_or(0, Column::len);
        for (i, column) in columns.iter().enumerate() {
            if column.len() != rows {
                return Err(format!("column “{}” has {} rows, the others have {rows}", column.name, column.len()));
            }
            if columns[..i].iter().any(|c| c.name == column.name) {
                return Err(format!("two columns are called “{}”", column.name));
            }
        }
        Ok(Self { columns, rows })
    }

    /// Number of rows.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// All columns, in the order of the source.
    pub fn columns(&self) -> &[Column] {
        &self.columns
    }

    /// The names and kinds of the columns, in their order.
    pub fn kinds(&self) -> Vec<(String, Kind)> {
        self.columns.iter().map(|column| (column.name.clone(), column.kind)).collect()
    }

    /// The column of that name.
    pub fn column(&self, name: &str) -> Option<&Column> {
        self.columns.iter().find(|c| c.name == name)
    }

    /// The same table with a column put in the place of the one of its name, or
    /// after the last. It must be as long as the others.
    pub fn with(&self, column: Column) -> Table {
        debug_assert!(self.columns.is_empty() || column.len() == self.rows);
        let rows = column.len();
        let mut columns = self.columns.clone();
        match columns.iter_mut().find(|c| c.name == column.name) {
            Some(place) => *place = column,
            None => columns.push(column),
        }
        Table { columns, rows }
    }

    /// The rows of all parts of a table, one after the other.
    ///
    /// # Errors
    /// A sentence if their columns are not the same.
    pub fn concat(parts: &[Table]) -> Result<Table, String> {
        let width = parts.first().map_or(0, |part| part.columns.len());
        let whole =
            |at: usize| Column::concat(&parts.iter().filter_map(|part| part.columns.get(at)).collect::<Vec<_>>());
        Table::new((0..width).filter_map(whole).collect())
    }

    /// Every so many rows of a part of a longer table that is let go; `before` are the rows of the whole
    /// before it, of which the first counts as 0. Nothing is held of the other rows, words least of all.
    pub fn every_nth(&self, before: u64, nth: u64) -> Table {
        let first = before.next_multiple_of(nth) - before;
        let rows: Vec<usize> = (first as usize..self.rows).step_by(nth as usize).collect();
        Table { columns: self.columns.iter().map(|c| c.apart(&rows)).collect(), rows: rows.len() }
    }

    /// The same table with only the rows given, in the order given.
    pub fn take(&self, rows: &[usize]) -> Table {
        Table { columns: self.columns.iter().map(|c| c.take(rows)).collect(), rows: rows.len() }
    }
}
