//! From bytes to a table: what was found in a file, what did not fit, and the rows.

mod csv;
mod dialect;
mod infer;
mod plan;
mod value;

pub use csv::{Chunks, read_table, read_table_as, scan};
pub use dialect::{Delimiter, Dialect};
pub use plan::{ColumnPlan, Misfit, MisfitKind, Plan, Scan};
pub use value::{DateOrder, DecimalMark, ValueFormat, is_missing_mark, parse_date, parse_number};

use thiserror::Error;

/// The most columns a table may have: what one row of the storage can hold
/// for certain.
pub const MOST_COLUMNS: usize = 1_000;

/// The longest field, in bytes; more than that is a quote that never closed.
pub const LONGEST_FIELD: usize = 64 * 1024;

/// How many misfits are kept with their place; all are counted.
pub const MISFITS_KEPT: usize = 1_000;

/// Why a file cannot become a table. Each says where, and what to do.
#[derive(Debug, Error)]
pub enum IntakeError {
    /// Zero bytes, or nothing but blank lines.
    #[error("The file is empty. Choose a file whose first line names the columns.")]
    Empty,
    /// A first line and nothing below it.
    #[error(
        "The file has a first line with {columns} column names and no rows below it. Check that the extract ran to its end, and bring it again."
    )]
    HeaderOnly {
        /// Names in the first line.
        columns: usize,
    },
    /// Only one column, whatever the delimiter.
    #[error(
        "Only one column was found (“{name}”): none of comma, semicolon, tab or bar separates the fields of the first line. Save the file with one of them and bring it again."
    )]
    OneColumn {
        /// Its name.
        name: String,
    },
    /// More columns than can be stored.
    #[error(
        "The file has {found} columns; at most {MOST_COLUMNS} can be kept in one table. Split it by subject and join the parts later, or leave out what you do not need."
    )]
    TooManyColumns {
        /// Names in the first line.
        found: usize,
    },
    /// No row had the right number of fields.
    #[error(
        "None of the {rows} rows has as many fields as the first line has names ({columns}). The delimiter or the quoting of the file is not what its first line suggests; line {line} has {fields} fields."
    )]
    NothingFits {
        /// Rows seen.
        rows: u64,
        /// Names in the first line.
        columns: usize,
        /// Line of the first row.
        line: u64,
        /// Fields in it.
        fields: usize,
    },
    /// Not text at all.
    #[error("This is not a text file: {what}. Bring a CSV file (comma, semicolon, tab or bar between fields).")]
    NotText {
        /// What it looks like instead.
        what: String,
    },
    /// The bytes could not be read.
    #[error("The file could not be read to its end: {0}. Nothing was kept; bring it again.")]
    Read(#[from] std::io::Error),
    /// Somebody stopped it.
    #[error("The import was stopped; nothing was kept.")]
    Cancelled(#[from] crate::Cancelled),
}
