//! Rows as CSV: commas, decimal points, UTF-8, names first.

use std::io::Write;

use super::{FileError, Rows};
use crate::{Kind, Table};

/// Characters at the beginning of a cell that a spreadsheet takes for a formula.
const FORMULA: [char; 6] = ['=', '+', '-', '@', '\t', '\r'];

pub(super) struct Csv<W: Write>(::csv::Writer<W>);

impl<W: Write> Csv<W> {
    pub fn begin(columns: &[(String, Kind)], to: W) -> Result<Self, FileError> {
        let mut writer = ::csv::Writer::from_writer(to);
        writer.write_record(columns.iter().map(|(name, _)| tamed(name))).map_err(FileError::other)?;
        Ok(Self(writer))
    }
}

impl<W: Write + Send> Rows for Csv<W> {
    fn add(&mut self, part: &Table) -> Result<(), FileError> {
        for row in 0..part.rows() {
            for column in part.columns() {
                let text = column.text(row).unwrap_or_default();
                let is_number = column.number(row).is_some();
                self.0.write_field(if is_number { text } else { tamed(&text) }).map_err(FileError::other)?;
            }
            self.0.write_record(None::<&[u8]>).map_err(FileError::other)?;
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<(), FileError> {
        Ok(self.0.flush()?)
    }
}

fn tamed(text: &str) -> String {
    if text.starts_with(FORMULA) { format!("'{text}") } else { text.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::super::Form;
    use super::*;
    use crate::table::ColumnBuilder;

    #[test]
    fn formulas_are_tamed_and_negative_numbers_are_not() {
        let mut word = ColumnBuilder::new("note", Kind::Category);
        let mut number = ColumnBuilder::new("change", Kind::Number);
        word.push_word("=cmd()");
        word.push_word("a, \"b\"");
        number.push_number(-1.5);
        number.push_missing();
        let table = Table::new(vec![word.finish(), number.finish()]).expect("columns");
        let mut bytes = Vec::new();
        Form::Csv.write(&table, &mut bytes).expect("csv");
        let text = String::from_utf8(bytes).expect("utf-8");
        assert_eq!(text, "note,change\n'=cmd(),-1.5\n\"a, \"\"b\"\"\",\n");
    }
}
