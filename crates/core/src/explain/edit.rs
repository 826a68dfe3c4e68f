//! A customer with values as somebody typed them.

use pronoia_data::number::THIN;
use pronoia_data::table::{ColumnBuilder, Storage};
use pronoia_data::value::{DateOrder, DecimalMark, parse_date, parse_number};
use pronoia_data::{Column, Table};

/// Puts a typed value in the place of the one that the only row of `customer` has in a column; an
/// empty text is a missing value.
///
/// # Errors
/// A sentence if the text cannot be a value of the column.
pub fn with_value(customer: &Table, name: &str, text: &str) -> Result<Table, String> {
    let column = customer.column(name).ok_or_else(|| format!("There is no column “{name}”."))?;
    Ok(customer.with(value_of(column, text)?))
}

fn value_of(column: &Column, text: &str) -> Result<Column, String> {
    let mut builder = ColumnBuilder::new(&column.name, column.kind);
    let text = text.trim();
    if text.is_empty() {
        builder.push_missing();
        return Ok(builder.finish());
    }
    match column.kind.storage() {
        Storage::Words => builder.push_word(text),
        Storage::Numbers => {
            let plain: String = text.chars().filter(|c| *c != THIN).collect::<String>().replace('−', "-");
            let read = |mark| parse_number(&plain, mark);
            match read(DecimalMark::Point).or_else(|| read(DecimalMark::Comma)) {
                Some(number) => builder.push_number(number),
                None => return Err(format!("“{}” is a number, and “{text}” is none.", column.name)),
            }
        }
        Storage::Dates => match parse_date(text, DateOrder::YearMonthDay) {
            Some(day) => builder.push_date(day),
            None => return Err(format!("“{}” is a date, such as 2024-05-31, and “{text}” is none.", column.name)),
        },
    }
    Ok(builder.finish())
}

/// The customer who has the middle of every number and the most frequent of all other values, among
/// rows of a table. Nobody need be like that.
pub fn typical(table: &Table, rows: &[usize]) -> Table {
    let columns = table.columns().iter().map(|column| {
        let mut builder = ColumnBuilder::new(&column.name, column.kind);
        match column.kind.storage() {
            Storage::Words => {
                let mut counts: std::collections::BTreeMap<String, u64> = std::collections::BTreeMap::new();
                for value in rows.iter().filter_map(|&row| column.text(row)) {
                    *counts.entry(value).or_default() += 1;
                }
                match counts.into_iter().max_by(|a, b| a.1.cmp(&b.1).then(b.0.cmp(&a.0))) {
                    Some((word, _)) => builder.push_word(&word),
                    None => builder.push_missing(),
                }
            }
            storage => {
                let mut values: Vec<f64> = rows.iter().filter_map(|&row| column.number(row)).collect();
                values.sort_unstable_by(f64::total_cmp);
                match (values.get(values.len() / 2), storage) {
                    (Some(&middle), Storage::Dates) => builder.push_date(middle as i32),
                    (Some(&middle), _) => builder.push_number(middle),
                    (None, _) => builder.push_missing(),
                }
            }
        }
        builder.finish()
    });
    // Columns of one row each, with the names of a table.
    Table::new(columns.collect()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use pronoia_data::Kind;

    fn customer() -> Table {
        let mut fee = ColumnBuilder::new("fee", Kind::Number);
        fee.push_number(100.0);
        let mut joined = ColumnBuilder::new("joined", Kind::Date);
        joined.push_date(19_000);
        let mut tier = ColumnBuilder::new("tier", Kind::Category);
        tier.push_word("Plus");
        Table::new(vec![fee.finish(), joined.finish(), tier.finish()]).expect("a customer")
    }

    #[test]
    fn typed_values_take_the_place_of_those_that_were_there() {
        let edited = with_value(&customer(), "fee", "1 204,5").expect("a number");
        assert_eq!(edited.column("fee").and_then(|c| c.number(0)), Some(1204.5));
        assert_eq!(edited.column("tier").and_then(|c| c.text(0)).as_deref(), Some("Plus"));
        let edited = with_value(&customer(), "joined", "2024-05-31").expect("a date");
        assert_eq!(edited.column("joined").and_then(|c| c.text(0)).as_deref(), Some("2024-05-31"));
        let edited = with_value(&customer(), "tier", "").expect("missing");
        assert_eq!(edited.column("tier").and_then(|c| c.text(0)), None);
        let said = with_value(&customer(), "fee", "much").expect_err("no number");
        assert!(said.contains("“fee” is a number, and “much” is none"), "{said}");
        assert!(with_value(&customer(), "joined", "soon").is_err() && with_value(&customer(), "x", "1").is_err());
    }

    #[test]
    fn somebody_typical_has_the_middle_and_the_most_frequent() {
        let mut fee = ColumnBuilder::new("fee", Kind::Number);
        [3.0, 1.0, 2.0].into_iter().for_each(|x| fee.push_number(x));
        let mut tier = ColumnBuilder::new("tier", Kind::Category);
        ["b", "a", "b"].into_iter().for_each(|word| tier.push_word(word));
        let table = Table::new(vec![fee.finish(), tier.finish()]).expect("a table");
        let middle = typical(&table, &[0, 1, 2]);
        assert_eq!(middle.column("fee").and_then(|c| c.number(0)), Some(2.0));
        assert_eq!(middle.column("tier").and_then(|c| c.text(0)).as_deref(), Some("b"));
    }
}
