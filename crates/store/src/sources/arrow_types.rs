//! Values on their way out of a source: each type of PostgreSQL as one of a few
//! types that a column can be read from.

use std::sync::Arc;

use arrow_array::ArrayRef;
use arrow_array::builder::{
    BooleanBuilder, Date32Builder, Float64Builder, Int64Builder, StringBuilder, TimestampMicrosecondBuilder,
};
use arrow_schema::{DataType, TimeUnit};
use chrono::{DateTime, NaiveDate, NaiveDateTime, Utc};
use sea_orm::sqlx::postgres::PgRow;
use sea_orm::sqlx::{self, Row};

/// How a column is carried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ArrowType {
    /// A whole number.
    Whole,
    /// A number.
    Number,
    /// True or false.
    YesNo,
    /// A day.
    Day,
    /// A day and a time.
    Moment,
    /// Whatever it says.
    Words,
}

impl ArrowType {
    /// For a type by its name; nothing for bytes, which are no value of a customer's.
    pub fn of(type_name: &str) -> Option<Self> {
        Some(match type_name {
            "INT2" | "INT4" | "INT8" => Self::Whole,
            "FLOAT4" | "FLOAT8" | "NUMERIC" | "MONEY" => Self::Number,
            "BOOL" => Self::YesNo,
            "DATE" => Self::Day,
            "TIMESTAMP" | "TIMESTAMPTZ" => Self::Moment,
            "BYTEA" | "BYTEA[]" => return None,
            _ => Self::Words,
        })
    }

    /// The column in the type that it is carried as. A day that is never is no day.
    pub fn cast(self, column: &str, type_name: &str) -> String {
        match self {
            Self::Whole => format!("{column}::int8"),
            Self::Number if type_name == "MONEY" => format!("{column}::numeric::float8"),
            Self::Number => format!("{column}::float8"),
            Self::YesNo => column.to_owned(),
            Self::Day => format!("CASE WHEN isfinite({column}) THEN {column} END"),
            Self::Moment if type_name == "TIMESTAMPTZ" => {
                format!("CASE WHEN isfinite({column}) THEN {column} AT TIME ZONE 'UTC' END")
            }
            Self::Moment => format!("CASE WHEN isfinite({column}) THEN {column} END"),
            Self::Words => format!("{column}::text"),
        }
    }

    /// Its type in the file.
    pub fn data_type(self) -> DataType {
        match self {
            Self::Whole => DataType::Int64,
            Self::Number => DataType::Float64,
            Self::YesNo => DataType::Boolean,
            Self::Day => DataType::Date32,
            Self::Moment => DataType::Timestamp(TimeUnit::Microsecond, None),
            Self::Words => DataType::Utf8,
        }
    }
}

/// A column that is being filled.
pub(super) enum ColumnBuilder {
    Whole(Int64Builder),
    Number(Float64Builder),
    YesNo(BooleanBuilder),
    Day(Date32Builder),
    Moment(TimestampMicrosecondBuilder),
    Words(StringBuilder),
}

impl ColumnBuilder {
    pub fn new(carried: ArrowType) -> Self {
        match carried {
            ArrowType::Whole => Self::Whole(Int64Builder::new()),
            ArrowType::Number => Self::Number(Float64Builder::new()),
            ArrowType::YesNo => Self::YesNo(BooleanBuilder::new()),
            ArrowType::Day => Self::Day(Date32Builder::new()),
            ArrowType::Moment => Self::Moment(TimestampMicrosecondBuilder::new()),
            ArrowType::Words => Self::Words(StringBuilder::new()),
        }
    }

    /// Adds the value of a row.
    pub fn push(&mut self, row: &PgRow, at: usize) -> Result<(), sqlx::Error> {
        match self {
            Self::Whole(b) => b.append_option(row.try_get(at)?),
            Self::Number(b) => b.append_option(row.try_get(at)?),
            Self::YesNo(b) => b.append_option(row.try_get(at)?),
            Self::Day(b) => b.append_option(row.try_get::<Option<NaiveDate>, _>(at)?.map(days)),
            Self::Moment(b) => {
                let moment = row.try_get::<Option<NaiveDateTime>, _>(at)?;
                b.append_option(moment.map(|m| m.and_utc().timestamp_micros()));
            }
            Self::Words(b) => b.append_option(row.try_get::<Option<&str>, _>(at)?),
        }
        Ok(())
    }

    /// What was added so far; it is empty afterwards.
    pub fn take(&mut self) -> ArrayRef {
        match self {
            Self::Whole(b) => Arc::new(b.finish()),
            Self::Number(b) => Arc::new(b.finish()),
            Self::YesNo(b) => Arc::new(b.finish()),
            Self::Day(b) => Arc::new(b.finish()),
            Self::Moment(b) => Arc::new(b.finish()),
            Self::Words(b) => Arc::new(b.finish()),
        }
    }
}

/// Days since 1970-01-01.
fn days(date: NaiveDate) -> i32 {
    let seconds = date.signed_duration_since(DateTime::<Utc>::UNIX_EPOCH.date_naive());
    // Every date of PostgreSQL fits.
    i32::try_from(seconds.num_days()).unwrap_or(i32::MAX)
}
