//! Rows as a file, in one of the forms that other programs read.

mod csv;
mod json_lines;
mod parquet;
mod xlsx;

use std::io::Write;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use pronoia_data::{Kind, Table};

/// A form of file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileFormat {
    /// Commas, decimal points, UTF-8, names first.
    Csv,
    /// A workbook of one sheet.
    Xlsx,
    /// Apache Parquet, compressed with Zstandard.
    Parquet,
    /// A JSON object per line.
    JsonLines,
}

/// Why there is no file.
#[derive(Debug, Error)]
pub enum FileError {
    /// The form cannot hold these rows.
    #[error("{0}")]
    DoesNotFit(String),
    /// Writing broke off.
    #[error("The file could not be written: {0}.")]
    Write(#[from] std::io::Error),
}

impl FileError {
    fn other(e: impl std::fmt::Display) -> Self {
        Self::Write(std::io::Error::other(e.to_string()))
    }
}

impl FileFormat {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Csv, Self::Xlsx, Self::Parquet, Self::JsonLines];

    /// The end of a file's name, without the point.
    pub fn extension(self) -> &'static str {
        match self {
            Self::Csv => "csv",
            Self::Xlsx => "xlsx",
            Self::Parquet => "parquet",
            Self::JsonLines => "jsonl",
        }
    }

    /// The form that a file's name ends in.
    pub fn of_extension(extension: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|form| form.extension().eq_ignore_ascii_case(extension))
    }

    /// Its media type.
    pub fn media_type(self) -> &'static str {
        match self {
            Self::Csv => "text/csv; charset=utf-8",
            Self::Xlsx => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
            Self::Parquet => "application/vnd.apache.parquet",
            Self::JsonLines => "application/x-ndjson",
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Csv => "CSV",
            Self::Xlsx => "XLSX",
            Self::Parquet => "Parquet",
            Self::JsonLines => "JSON lines",
        }
    }

    /// Writes all rows of a table.
    ///
    /// # Errors
    /// [`FileError`].
    pub fn write(self, table: &Table, to: &mut (impl Write + Send)) -> Result<(), FileError> {
        let mut rows = self.begin(&table.kinds(), table.rows() as u64, to)?;
        rows.add(table)?;
        rows.finish()
    }

    /// Begins a file of so many rows with these columns; they are added in parts, of which none is
    /// held once it was written.
    ///
    /// In CSV, text that a spreadsheet would run as a formula gets an apostrophe before it; the
    /// other forms say what is text.
    ///
    /// # Errors
    /// [`FileError`] if the form does not hold so many rows or columns, before anything is written.
    pub fn begin<'w>(
        self,
        columns: &[(String, Kind)],
        rows: u64,
        to: impl Write + Send + 'w,
    ) -> Result<Box<dyn TableWriter + 'w>, FileError> {
        Ok(match self {
            Self::Csv => Box::new(csv::Csv::begin(columns, to)?),
            Self::Xlsx => Box::new(xlsx::Xlsx::begin(columns, rows, to)?),
            Self::Parquet => Box::new(parquet::Parquet::begin(columns, to)?),
            Self::JsonLines => Box::new(json_lines::JsonLinesWriter::begin(columns, to)?),
        })
    }
}

/// A file in the making.
pub trait TableWriter: Send {
    /// Adds rows; their columns are those that the file was begun with.
    ///
    /// # Errors
    /// [`FileError`].
    fn add(&mut self, part: &Table) -> Result<(), FileError>;

    /// Writes what stands at the end.
    ///
    /// # Errors
    /// [`FileError`].
    fn finish(self: Box<Self>) -> Result<(), FileError>;
}
