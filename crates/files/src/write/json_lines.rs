//! TableWriter as JSON, an object per line; what is missing is null.

use std::io::Write;

use super::{FileError, TableWriter};
use pronoia_data::table::ColumnValues;
use pronoia_data::{Kind, Table};

pub(super) struct JsonLinesWriter<W> {
    /// The names, quoted.
    names: Vec<String>,
    line: String,
    to: W,
}

fn quoted(text: &str) -> Result<String, FileError> {
    serde_json::to_string(text).map_err(FileError::other)
}

impl<W: Write> JsonLinesWriter<W> {
    pub fn begin(columns: &[(String, Kind)], to: W) -> Result<Self, FileError> {
        let names = columns.iter().map(|(name, _)| quoted(name)).collect::<Result<_, _>>()?;
        Ok(Self { names, line: String::new(), to })
    }
}

impl<W: Write + Send> TableWriter for JsonLinesWriter<W> {
    fn add(&mut self, part: &Table) -> Result<(), FileError> {
        let line = &mut self.line;
        for row in 0..part.rows() {
            line.clear();
            for (column, name) in part.columns().iter().zip(&self.names) {
                line.push(if line.is_empty() { '{' } else { ',' });
                line.push_str(name);
                line.push(':');
                match (column.text(row), &column.values) {
                    (None, _) => line.push_str("null"),
                    (Some(number), ColumnValues::Numbers(_)) => line.push_str(&number),
                    (Some(text), _) => line.push_str(&quoted(&text)?),
                }
            }
            line.push_str("}\n");
            self.to.write_all(line.as_bytes())?;
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<(), FileError> {
        Ok(self.to.flush()?)
    }
}
