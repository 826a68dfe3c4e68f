//! Customers of a list who are in the records already.

use std::collections::HashMap;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use pronoia_data::{Column, Table};

/// How many customers of a list are in the records that a model was made from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KnownCustomers {
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

/// The customers of records, to be found again by what is the same in some columns.
#[derive(Debug)]
pub struct Roll {
    by: Vec<String>,
    rows: HashMap<String, usize>,
}

impl Roll {
    /// The customers of records by these columns. Of several who are the same in all of them, the last
    /// is found; one without a value in any of them is nobody.
    ///
    /// # Errors
    /// A sentence if the records lack one of the columns.
    pub fn of(records: &Table, by: &[String]) -> Result<Self, String> {
        let columns = columns(records, by)?;
        let rows = (0..records.rows()).filter_map(|row| Some((key(&columns, row)?, row))).collect();
        Ok(Self { by: by.to_vec(), rows })
    }

    /// For every row of a list, or of a part of it, the row of the records that is the same, if one is.
    ///
    /// # Errors
    /// A sentence if the list lacks one of the columns.
    pub fn find(&self, list: &Table) -> Result<Vec<Option<usize>>, String> {
        let columns = columns(list, &self.by)?;
        let found = (0..list.rows()).into_par_iter().with_min_len(1_024);
        Ok(found.map(|row| self.rows.get(&key(&columns, row)?).copied()).collect())
    }
}

fn columns<'t>(table: &'t Table, by: &[String]) -> Result<Vec<&'t Column>, String> {
    by.iter().map(|name| table.column(name).ok_or_else(|| format!("There is no column “{name}”."))).collect()
}

/// The values of a row, told apart from those of every other.
fn key(columns: &[&Column], row: usize) -> Option<String> {
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
    use pronoia_data::Kind;
    use pronoia_data::table::ColumnBuilder;

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
        let roll = Roll::of(&records, &["id".into()]).expect("the column");
        assert_eq!(roll.find(&list).expect("the column"), [Some(1), None, None, Some(3)]);
        assert!(Roll::of(&records, &["name".into()]).expect_err("no such column").contains("“name”"));
        assert!(roll.find(&Table::default()).expect_err("no such column").contains("“id”"));
    }
}
