//! Customers as another program tells of them, one object each.

use serde_json::{Map, Value};

use super::pairing::{ColumnAnswers, pair};
use pronoia_data::table::{ColumnBuilder, Storage};
use pronoia_data::value::{DateOrder, DecimalMark, is_missing_mark, parse_date, parse_number};
use pronoia_data::{Kind, Table};

/// The columns needed, read from the fields of objects. Names are found as in a list: as they are, or
/// but for case, spaces and punctuation. A field that is absent or null is missing, and so are the marks
/// for that in files, such as `NA`.
///
/// # Errors
/// A sentence that says which customer, counted from 1, has a value that cannot be read as its column,
/// or that no customer has any of the columns.
pub fn table_of(customers: &[Map<String, Value>], needed: &[(&str, Kind)]) -> Result<Table, String> {
    let mut fields: Vec<&str> = customers.iter().flat_map(|customer| customer.keys().map(String::as_str)).collect();
    fields.sort_unstable();
    fields.dedup();
    let names: Vec<&str> = needed.iter().map(|need| need.0).collect();
    let paired = pair(&names, &fields, &ColumnAnswers::new());
    if !customers.is_empty() && !names.is_empty() && paired.iter().zip(&names).all(|(p, name)| p.source(name).is_none())
    {
        return Err(format!("None of the columns that are needed is there: {}.", names.join(", ")));
    }
    let mut columns = Vec::with_capacity(needed.len());
    for (&(name, kind), paired) in needed.iter().zip(&paired) {
        let field = paired.source(name);
        let mut column = ColumnBuilder::new(name, kind);
        for (at, customer) in customers.iter().enumerate() {
            let value = field.and_then(|field| customer.get(field)).unwrap_or(&Value::Null);
            push(&mut column, kind, value)
                .map_err(|said| format!("Customer {}, “{name}”: {said} is not a {kind}.", at + 1))?;
        }
        columns.push(column.finish());
    }
    Table::new(columns)
}

/// Adds a value, or says what it is instead.
fn push(column: &mut ColumnBuilder, kind: Kind, value: &Value) -> Result<(), String> {
    let other = || Err(value.to_string());
    match (kind.storage(), value) {
        (_, Value::Null) => column.push_missing(),
        (_, Value::Array(_) | Value::Object(_)) => return other(),
        (Storage::Numbers, Value::Number(number)) => match number.as_f64().filter(|x| x.is_finite()) {
            Some(x) => column.push_number(x),
            None => return other(),
        },
        (_, Value::String(text)) if is_missing_mark(text.trim()) => column.push_missing(),
        (Storage::Numbers, Value::String(text)) => match parse_number(text.trim(), DecimalMark::Point) {
            Some(x) => column.push_number(x),
            None => return other(),
        },
        (Storage::Dates, Value::String(text)) => match parse_date(text.trim(), DateOrder::YearMonthDay) {
            Some(day) => column.push_date(day),
            None => return other(),
        },
        (Storage::Words, Value::String(text)) => column.push_word(text.trim()),
        (Storage::Words, Value::Number(number)) => column.push_word(&number.to_string()),
        (Storage::Words, Value::Bool(truth)) => column.push_word(if *truth { "true" } else { "false" }),
        (Storage::Numbers, Value::Bool(_)) | (Storage::Dates, Value::Number(_) | Value::Bool(_)) => return other(),
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn read(customers: Value) -> Result<Table, String> {
        let customers: Vec<Map<String, Value>> = serde_json::from_value(customers).expect("objects");
        table_of(
            &customers,
            &[("fee", Kind::Number), ("plan tier", Kind::Category), ("since", Kind::Date), ("code", Kind::Code)],
        )
    }

    #[test]
    fn fields_are_read_in_the_kinds_of_the_columns() {
        let table = read(json!([
            {"fee": 12.5, "plan tier": "Basic", "since": "2024-02-29", "code": "007"},
            {"fee": "13", "Plan_Tier": " Plus ", "code": 12, "more": [1]},
            {"fee": "NA", "plan tier": "", "since": "-"},
        ]))
        .expect("a table");
        let text = |name: &str, row: usize| table.column(name).expect("there").text(row);
        assert_eq!([0, 1, 2].map(|row| text("fee", row)), [Some("12.5".into()), Some("13".into()), None]);
        assert_eq!(text("plan tier", 0).as_deref(), Some("Basic"));
        assert_eq!([0, 1].map(|row| text("code", row)), [Some("007".into()), Some("12".into())]);
        assert_eq!([0, 1, 2].map(|row| text("since", row)), [Some("2024-02-29".into()), None, None]);
    }

    #[test]
    fn what_cannot_be_read_is_said_with_its_customer() {
        let said = |customers: Value| read(customers).expect_err("refused");
        assert_eq!(said(json!([{"fee": 1}, {"fee": "much"}])), "Customer 2, “fee”: \"much\" is not a number.");
        assert!(said(json!([{"since": "29.02.2024"}])).contains("is not a date"));
        assert!(said(json!([{"code": {"a": 1}}])).contains("is not a code"));
        assert!(said(json!([{"fee": true}])).contains("true is not a number"));
        assert!(said(json!([{"price": 1}])).contains("None of the columns"));
        assert_eq!(read(json!([])).expect("nobody").rows(), 0);
    }
}
