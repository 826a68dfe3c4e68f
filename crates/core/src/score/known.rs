//! Customers of a list who are in the records already.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::{Column, Table};

/// How many customers of a list are in the records that a model was made from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Known {
    /// The columns in which they are the same; all that the model reads, where there is no
    /// identifier.
    pub by: Vec<String>,
    /// Whether that is an identifier.
    pub is_identifier: bool,
    /// How many are in the records.
    pub in_records: u64,
    /// How many of them the model was fitted to, so that it knows what happened to them.
    pub fitted_to: u64,
}

/// For every row of a list the row of the records that is the same in some columns, if one is; the
/// last of several. A row without a value in any of them is nobody's.
///
/// # Errors
/// A sentence if either table lacks one of the columns.
pub fn same_rows(list: &Table, records: &Table, by: &[String]) -> Result<Vec<Option<usize>>, String> {
    let columns = |table: &'_ Table| -> Result<Vec<Column>, String> {
        let column = |name: &String| table.column(name).cloned().ok_or_else(|| format!("There is no column “{name}”."));
        by.iter().map(column).collect()
    };
    let (here, there) = (columns(list)?, columns(records)?);
    let known: HashMap<String, usize> = (0..records.rows()).filter_map(|row| Some((key(&there, row)?, row))).collect();
    Ok((0..list.rows()).map(|row| known.get(&key(&here, row)?).copied()).collect())
}

/// The values of a row, told apart from those of every other.
fn key(columns: &[Column], row: usize) -> Option<String> {
    let mut key = String::new();
    let mut any = false;
    for column in columns {
        if let Some(text) = column.text(row) {
            any = true;
            key.push_str(&text);
        }
        // No text holds it: intake refuses NUL bytes.
        key.push('\0');
    }
    any.then_some(key)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Kind;
    use crate::table::ColumnBuilder;

    fn ids(kind: Kind, ids: &[&str]) -> Table {
        let mut column = ColumnBuilder::new("id", kind);
        for id in ids {
            match (id.parse::<f64>(), kind) {
                _ if id.is_empty() => column.push_missing(),
                (Ok(number), Kind::Number) => column.push_number(number),
                _ => column.push_word(id),
            }
        }
        Table::new(vec![column.finish()]).expect("a table")
    }

    #[test]
    fn the_same_customer_is_found_also_where_numbers_were_read_as_codes() {
        let records = ids(Kind::Number, &["100", "200", "", "300"]);
        let list = ids(Kind::Code, &["200", "", "7", "300"]);
        let same = same_rows(&list, &records, &["id".into()]).expect("the column");
        assert_eq!(same, [Some(1), None, None, Some(3)]);
        assert!(same_rows(&list, &records, &["name".into()]).expect_err("no such column").contains("“name”"));
    }
}
