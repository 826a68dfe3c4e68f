//! Rows as CSV: commas, decimal points, UTF-8, names first.

use std::io::Write;

use super::FileError;
use crate::Table;

/// Characters at the beginning of a cell that a spreadsheet takes for a formula.
const FORMULA: [char; 6] = ['=', '+', '-', '@', '\t', '\r'];

pub(super) fn write(table: &Table, to: &mut impl Write) -> Result<(), FileError> {
    let mut writer = ::csv::Writer::from_writer(to);
    writer.write_record(table.columns().iter().map(|c| tamed(&c.name))).map_err(FileError::other)?;
    for row in 0..table.rows() {
        for column in table.columns() {
            let text = column.text(row).unwrap_or_default();
            let is_number = column.number(row).is_some();
            writer.write_field(if is_number { text } else { tamed(&text) }).map_err(FileError::other)?;
        }
        writer.write_record(None::<&[u8]>).map_err(FileError::other)?;
    }
    Ok(writer.flush()?)
}

fn tamed(text: &str) -> String {
    if text.starts_with(FORMULA) { format!("'{text}") } else { text.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Kind;
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
        write(&table, &mut bytes).expect("csv");
        let text = String::from_utf8(bytes).expect("utf-8");
        assert_eq!(text, "note,change\n'=cmd(),-1.5\n\"a, \"\"b\"\"\",\n");
    }
}
