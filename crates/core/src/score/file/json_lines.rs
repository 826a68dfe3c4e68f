//! Rows as JSON, an object per line; what is missing is null.

use std::io::Write;

use super::FileError;
use crate::Table;
use crate::table::Values;

pub(super) fn write(table: &Table, to: &mut impl Write) -> Result<(), FileError> {
    let quoted = |text: &str| serde_json::to_string(text).map_err(FileError::other);
    let names: Vec<String> = table.columns().iter().map(|c| quoted(&c.name)).collect::<Result<_, _>>()?;
    let mut line = String::new();
    for row in 0..table.rows() {
        line.clear();
        for (column, name) in table.columns().iter().zip(&names) {
            line.push(if line.is_empty() { '{' } else { ',' });
            line.push_str(name);
            line.push(':');
            match (column.text(row), &column.values) {
                (None, _) => line.push_str("null"),
                (Some(number), Values::Numbers(_)) => line.push_str(&number),
                (Some(text), _) => line.push_str(&quoted(&text)?),
            }
        }
        line.push_str("}\n");
        to.write_all(line.as_bytes())?;
    }
    Ok(to.flush()?)
}
