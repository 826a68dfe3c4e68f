//! Text that was typed, as a value of the kind of a column.

use pronoia_data::Kind;
use pronoia_data::table::Storage;
use pronoia_data::value::{DateOrder, DecimalMark, parse_date, parse_number};

/// A value typed by somebody, as one of a kind.
#[derive(Debug, Clone, PartialEq)]
pub enum TypedValue {
    /// A number.
    Number(f64),
    /// Text.
    Word(String),
    /// A day, counted from 1970-01-01.
    Day(i32),
}

/// Reads text as a value of that kind; none if it is not one.
pub fn read_as(text: &str, kind: Kind) -> Option<TypedValue> {
    match kind.storage() {
        Storage::Numbers => parse_number(text, DecimalMark::Point).map(TypedValue::Number),
        Storage::Dates => parse_date(text, DateOrder::YearMonthDay).map(TypedValue::Day),
        Storage::Words => (!text.trim().is_empty()).then(|| TypedValue::Word(text.trim().to_owned())),
    }
}
