//! The types that a question may cast to.

use sqlparser::ast::{CharacterLength, DataType, ExactNumberInfo, TimezoneInfo};

/// The longest text that is filled up with spaces.
const LONGEST_FILLED: u64 = 1_000;

/// The longest text of a limited length.
const LONGEST_LIMITED: u64 = 1_000_000;

/// A type as PostgreSQL is told it, and the name that a column cast to it has; nothing if it is not allowed.
pub(super) fn allowed(data_type: &DataType) -> Option<(String, &'static str)> {
    use DataType as T;
    let plain = |sql: &str, name| Some((sql.to_owned(), name));
    match data_type {
        T::Bool | T::Boolean => plain("boolean", "bool"),
        T::Int2(None) | T::SmallInt(None) => plain("smallint", "int2"),
        T::Int(None) | T::Int4(None) | T::Integer(None) => plain("integer", "int4"),
        T::Int8(None) | T::BigInt(None) => plain("bigint", "int8"),
        T::Real | T::Float4 => plain("real", "float4"),
        T::Float8 | T::DoublePrecision | T::Double(ExactNumberInfo::None) | T::Float(ExactNumberInfo::None) => {
            plain("double precision", "float8")
        }
        T::Numeric(info) | T::Decimal(info) | T::Dec(info) => Some((format!("numeric{}", digits(info)?), "numeric")),
        T::Text => plain("text", "text"),
        T::CharacterVarying(length) | T::CharVarying(length) | T::Varchar(length) => {
            Some((format!("character varying{}", limited(length.as_ref(), LONGEST_LIMITED)?), "varchar"))
        }
        T::Character(length) | T::Char(length) => {
            Some((format!("character{}", limited(length.as_ref(), LONGEST_FILLED)?), "bpchar"))
        }
        T::Date => plain("date", "date"),
        T::Time(digits, TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => {
            Some((format!("time{} without time zone", seconds(*digits)?), "time"))
        }
        T::Timestamp(digits, TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => {
            Some((format!("timestamp{} without time zone", seconds(*digits)?), "timestamp"))
        }
        T::Timestamp(digits, TimezoneInfo::WithTimeZone | TimezoneInfo::Tz) => {
            Some((format!("timestamp{} with time zone", seconds(*digits)?), "timestamptz"))
        }
        T::Interval { fields: None, precision: None } => plain("interval", "interval"),
        T::Uuid => plain("uuid", "uuid"),
        _ => None,
    }
}

fn digits(info: &ExactNumberInfo) -> Option<String> {
    match info {
        ExactNumberInfo::None => Some(String::new()),
        ExactNumberInfo::Precision(p) => (*p <= 1_000).then(|| format!("({p})")),
        ExactNumberInfo::PrecisionAndScale(p, s) => {
            (*p <= 1_000 && (-1_000..=1_000).contains(s)).then(|| format!("({p},{s})"))
        }
    }
}

fn limited(length: Option<&CharacterLength>, most: u64) -> Option<String> {
    match length {
        None => Some(String::new()),
        Some(CharacterLength::IntegerLength { length, unit: None }) if *length <= most => Some(format!("({length})")),
        Some(_) => None,
    }
}

fn seconds(digits: Option<u64>) -> Option<String> {
    match digits {
        None => Some(String::new()),
        Some(digits) => (digits <= 6).then(|| format!("({digits})")),
    }
}
