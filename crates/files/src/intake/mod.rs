//! From bytes to a table: what was found in a file, what did not fit, and the rows.

mod archive;
mod arrow_lengths;
mod block;
mod columnar;
mod decoded;
mod delimited;
mod dialect;
mod field;
mod filling;
mod format;
mod gathering;
mod guard;
mod infer;
mod json_lines;
mod misfit;
mod names;
mod parquet_footer;
mod plan;
mod quoted;
mod read;
mod scan;
mod whole_file;
mod workbook;

pub use dialect::{Delimiter, Dialect};
pub use format::Format;
pub use guard::is_guarded;
pub use misfit::{Misfit, MisfitKind, Misfits};
pub use plan::{ColumnPlan, ReadPlan, Scan};
pub use read::FileReader;
pub use scan::Intake;
pub use whole_file::read_table;

use thiserror::Error;

/// The most columns a table may have: what one row of the storage can hold
/// for certain.
pub const MOST_COLUMNS: usize = 1_000;

/// The longest field, in bytes; more than that is a quote that never closed.
pub const LONGEST_FIELD: usize = 64 * 1024;

/// The longest name of a column, in characters.
pub const LONGEST_NAME: usize = 1_000;

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
        "The file has a first line with {columns} column names and no rows below it. Check that the extract ran to its end, and import it again."
    )]
    HeaderOnly {
        /// Names in the first line.
        columns: usize,
    },
    /// Only one column, whatever the delimiter.
    #[error(
        "Only one column was found (“{name}”): none of comma, semicolon, tab or bar separates the fields of the first line. Save the file with one of them and import it again."
    )]
    OneColumn {
        /// Its name.
        name: String,
    },
    /// More columns than can be stored.
    #[error(
        "The file has {found} columns; at most {MOST_COLUMNS} can be kept in one table. Split it by subject and join the parts later, or drop what you do not need."
    )]
    TooManyColumns {
        /// Names in the first line.
        found: usize,
    },
    /// A name that is none.
    #[error(
        "Column {column} has a name of {length} characters (it begins “{begins}”); at most {LONGEST_NAME} can be kept. Check that the first line names the columns, and import the file again."
    )]
    LongName {
        /// Its place, from 1.
        column: usize,
        /// Characters.
        length: usize,
        /// The beginning of it.
        begins: String,
    },
    /// No row could be taken.
    #[error(
        "None of the {rows} rows fits ({columns} columns were found). The first of them, {place} {line}: {why}. Check how the extract was written, and import it again."
    )]
    NothingFits {
        /// Rows seen.
        rows: u64,
        /// Names in the first line.
        columns: usize,
        /// “line” or “row”.
        place: &'static str,
        /// Place of the first row.
        line: u64,
        /// What is wrong with it.
        why: String,
    },
    /// A file that says what it is, and is not whole.
    #[error("The file is damaged: {what}. Nothing was kept; write the extract again and import it once more.")]
    Damaged {
        /// What the reader ran into.
        what: String,
    },
    /// An archive that unpacks to more than any workbook.
    #[error(
        "The workbook unpacks to far more than a workbook holds (its part {part}); it was not opened. Save the sheet as CSV and import that."
    )]
    Swollen {
        /// The part of the archive.
        part: String,
    },
    /// A workbook without any sheet to read.
    #[error(
        "The workbook has no sheet that is not hidden. Show the sheet with the rows, save it, and import it again."
    )]
    NoSheet,
    /// A sheet that is not there.
    #[error("The workbook has no sheet “{wanted}”; it has {sheets}. Choose one of them.")]
    NoSuchSheet {
        /// The sheet asked for.
        wanted: String,
        /// Those that are there.
        sheets: String,
    },
    /// A sheet with nothing on it.
    #[error("The sheet “{sheet}” is empty. Choose another sheet, or import another file.")]
    EmptySheet {
        /// Its name.
        sheet: String,
    },
    /// Only nested columns.
    #[error(
        "Every column of the file holds lists, records or bytes; none has one value a row. Write the values as columns of their own and import it again."
    )]
    NothingFlat,
    /// None of the formats.
    #[error(
        "This file is of no kind that can be read: {what}. Import delimited text (CSV), a workbook (XLSX, ODS), Parquet, Arrow or JSON lines."
    )]
    NotText {
        /// What it looks like instead.
        what: String,
    },
    /// The bytes could not be read.
    #[error("The file could not be read to its end: {0}. Nothing was kept; import it again.")]
    Read(#[from] std::io::Error),
    /// Somebody stopped it.
    #[error("The import was stopped; nothing was kept.")]
    Cancelled(#[from] pronoia_data::Cancelled),
}
