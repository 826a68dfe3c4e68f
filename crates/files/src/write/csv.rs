//! TableWriter as CSV: commas, decimal points, UTF-8, names first.

use std::io::Write;

use super::{FileError, TableWriter};
use pronoia_data::formulas::neutralised;
use pronoia_data::{Kind, Table};

pub(super) struct Csv<W: Write>(::csv::Writer<W>);

impl<W: Write> Csv<W> {
    pub fn begin(columns: &[(String, Kind)], to: W) -> Result<Self, FileError> {
        let mut writer = ::csv::Writer::from_writer(to);
        writer
            .write_record(columns.iter().map(|(name, _)| neutralised(name).into_owned()))
            .map_err(FileError::other)?;
        Ok(Self(writer))
    }
}

impl<W: Write + Send> TableWriter for Csv<W> {
    fn add(&mut self, part: &Table) -> Result<(), FileError> {
        for row in 0..part.rows() {
            for column in part.columns() {
                let text = column.text(row).unwrap_or_default();
                self.0.write_field(neutralised(&text).as_bytes()).map_err(FileError::other)?;
            }
            self.0.write_record(None::<&[u8]>).map_err(FileError::other)?;
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<(), FileError> {
        Ok(self.0.flush()?)
    }
}

#[cfg(test)]
mod tests {
    use super::super::FileFormat;
    use super::*;
    use pronoia_data::table::ColumnBuilder;

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
        FileFormat::Csv.write(&table, &mut bytes).expect("csv");
        let text = String::from_utf8(bytes).expect("utf-8");
        assert_eq!(text, "note,change\n'=cmd(),-1.5\n\"a, \"\"b\"\"\",\n");
    }
}
