//! Rows as a workbook of one sheet; text is written as text, so that nothing is run as a formula.

use std::io::Write;

use rust_xlsxwriter::{Format, Workbook, XlsxError};

use super::FileError;
use crate::Table;
use crate::number::count;
use crate::table::Values;

/// Rows of a sheet, names among them.
const MOST_ROWS: usize = 1_048_576;

/// Columns of a sheet.
const MOST_COLUMNS: usize = 16_384;

/// Days from the workbook's day 0 to 1970-01-01.
const EPOCH: f64 = 25_569.0;

/// The first day of the workbook that is counted as others count it.
const FIRST_DAY: f64 = 61.0;

pub(super) fn write(table: &Table, to: &mut impl Write) -> Result<(), FileError> {
    if table.rows() >= MOST_ROWS || table.columns().len() > MOST_COLUMNS {
        return Err(FileError::DoesNotFit(format!(
            "A sheet of XLSX holds {} rows below its names, and {} columns; this has {} and {}. Take CSV or Parquet, or fewer rows.",
            count(MOST_ROWS as u64 - 1),
            count(MOST_COLUMNS as u64),
            count(table.rows() as u64),
            count(table.columns().len() as u64)
        )));
    }
    let bytes = book(table).map_err(|e| match e {
        XlsxError::MaxStringLengthExceeded => FileError::DoesNotFit(
            "A cell of XLSX holds 32 767 letters, and one of these has more. Take CSV or Parquet.".into(),
        ),
        other => FileError::other(other),
    })?;
    Ok(to.write_all(&bytes)?)
}

fn book(table: &Table) -> Result<Vec<u8>, XlsxError> {
    let mut book = Workbook::new();
    let (bold, day) = (Format::new().set_bold(), Format::new().set_num_format("yyyy-mm-dd"));
    let sheet = book.add_worksheet();
    sheet.set_freeze_panes(1, 0)?;
    for (at, column) in (0..).zip(table.columns()) {
        sheet.write_string_with_format(0, at, &column.name, &bold)?;
        for row in 0..column.len() {
            let place = row as u32 + 1;
            match (&column.values, column.number(row)) {
                (Values::Numbers(_), Some(x)) => {
                    sheet.write_number(place, at, x)?;
                }
                (Values::Dates(_), Some(days)) if days + EPOCH >= FIRST_DAY => {
                    sheet.write_number_with_format(place, at, days + EPOCH, &day)?;
                }
                _ => {
                    if let Some(text) = column.text(row) {
                        sheet.write_string(place, at, text)?;
                    }
                }
            }
        }
    }
    book.save_to_buffer()
}
