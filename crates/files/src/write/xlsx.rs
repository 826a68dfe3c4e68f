//! TableWriter as a workbook of one sheet; text is written as text, so that nothing is run as a formula.

use std::io::Write;

use rust_xlsxwriter::{Format, Workbook, XlsxError};

use super::{FileError, TableWriter};
use pronoia_data::number::count;
use pronoia_data::table::ColumnValues;
use pronoia_data::{Kind, Table};

/// TableWriter of a sheet, names among them.
const MOST_ROWS: u64 = 1_048_576;

/// Columns of a sheet.
const MOST_COLUMNS: usize = 16_384;

/// Days from the workbook's day 0 to 1970-01-01.
const EPOCH: f64 = 25_569.0;

/// The first day of the workbook that is counted as others count it.
const FIRST_DAY: f64 = 61.0;

pub(super) struct Xlsx<W> {
    book: Workbook,
    day: Format,
    /// TableWriter written, names among them.
    rows: u32,
    to: W,
}

impl<W: Write> Xlsx<W> {
    pub fn begin(columns: &[(String, Kind)], rows: u64, to: W) -> Result<Self, FileError> {
        if rows >= MOST_ROWS || columns.len() > MOST_COLUMNS {
            return Err(FileError::DoesNotFit(format!(
                "A sheet of XLSX holds {} rows below its names, and {} columns; this has {} and {}. Take CSV or Parquet, or fewer rows.",
                count(MOST_ROWS - 1),
                count(MOST_COLUMNS as u64),
                count(rows),
                count(columns.len() as u64)
            )));
        }
        let mut book = Workbook::new();
        let bold = Format::new().set_bold();
        // TableWriter go to a file of the system as they come, rather than all being held.
        let sheet = book.add_worksheet_with_constant_memory().map_err(refused)?;
        sheet.set_freeze_panes(1, 0).map_err(refused)?;
        for (at, (name, _)) in (0..).zip(columns) {
            sheet.write_string_with_format(0, at, name, &bold).map_err(refused)?;
        }
        Ok(Self { book, day: Format::new().set_num_format("yyyy-mm-dd"), rows: 1, to })
    }
}

impl<W: Write + Send> TableWriter for Xlsx<W> {
    fn add(&mut self, part: &Table) -> Result<(), FileError> {
        let sheet = self.book.worksheet_from_index(0).map_err(refused)?;
        for row in 0..part.rows() {
            for (at, column) in (0..).zip(part.columns()) {
                match (&column.values, column.number(row)) {
                    (ColumnValues::Numbers(_), Some(x)) => {
                        sheet.write_number(self.rows, at, x).map_err(refused)?;
                    }
                    (ColumnValues::Dates(_), Some(days)) if days + EPOCH >= FIRST_DAY => {
                        sheet.write_number_with_format(self.rows, at, days + EPOCH, &self.day).map_err(refused)?;
                    }
                    _ => {
                        if let Some(text) = column.text(row) {
                            sheet.write_string(self.rows, at, text).map_err(refused)?;
                        }
                    }
                }
            }
            self.rows += 1;
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<(), FileError> {
        self.book.save_to_writer(&mut self.to).map_err(refused)?;
        Ok(self.to.flush()?)
    }
}

fn refused(e: XlsxError) -> FileError {
    match e {
        XlsxError::MaxStringLengthExceeded => FileError::DoesNotFit(
            "A cell of XLSX holds 32 767 letters, and one of these has more. Take CSV or Parquet.".into(),
        ),
        other => FileError::other(other),
    }
}
