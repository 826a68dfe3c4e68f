//! Visits as a Parquet file, the habit of a data platform.

use std::sync::Arc;

use arrow_array::{Date32Array, Float64Array, Int64Array, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema};
use parquet::arrow::ArrowWriter;
use parquet::basic::{Compression, ZstdLevel};
use parquet::errors::Result;
use parquet::file::properties::WriterProperties;

use crate::Visit;

/// Visits as Parquet, compressed with Zstandard.
///
/// # Errors
/// If the writer refuses, which it does not for columns of equal length.
pub fn visits_parquet(visits: &[Visit]) -> Result<Vec<u8>> {
    let schema = Arc::new(Schema::new(vec![
        Field::new("member_id", DataType::Int64, false),
        Field::new("visited_on", DataType::Date32, false),
        Field::new("reason", DataType::Utf8, false),
        Field::new("cost", DataType::Float64, false),
        Field::new("clinic", DataType::Utf8, false),
    ]));
    let batch = RecordBatch::try_new(
        Arc::clone(&schema),
        vec![
            Arc::new(Int64Array::from_iter_values(visits.iter().map(|v| i64::from(v.member)))),
            Arc::new(Date32Array::from_iter_values(visits.iter().map(|v| v.day))),
            Arc::new(StringArray::from_iter_values(visits.iter().map(|v| v.reason))),
            Arc::new(Float64Array::from_iter_values(visits.iter().map(|v| v.cost))),
            Arc::new(StringArray::from_iter_values(visits.iter().map(|v| v.clinic))),
        ],
    )?;
    let properties = WriterProperties::builder().set_compression(Compression::ZSTD(ZstdLevel::default())).build();
    let mut bytes = Vec::new();
    let mut writer = ArrowWriter::try_new(&mut bytes, schema, Some(properties))?;
    writer.write(&batch)?;
    writer.close()?;
    Ok(bytes)
}
