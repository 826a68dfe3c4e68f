//! Rows as Apache Parquet, compressed with Zstandard.

use std::io::Write;
use std::sync::Arc;

use ::parquet::arrow::ArrowWriter;
use ::parquet::basic::{Compression, ZstdLevel};
use ::parquet::file::properties::WriterProperties;
use arrow_array::{ArrayRef, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema};

use super::FileError;
use crate::table::{Column, Values};
use crate::{Kind, Table};

pub(super) fn write(table: &Table, to: &mut (impl Write + Send)) -> Result<(), FileError> {
    let fields: Vec<Field> = table.columns().iter().map(|c| Field::new(&c.name, form_of(c.kind), true)).collect();
    let arrays = table.columns().iter().map(array);
    let schema = Arc::new(Schema::new(fields));
    let batch = RecordBatch::try_new(Arc::clone(&schema), arrays.collect()).map_err(FileError::other)?;
    let properties = WriterProperties::builder().set_compression(Compression::ZSTD(ZstdLevel::default())).build();
    let mut writer = ArrowWriter::try_new(to, schema, Some(properties)).map_err(FileError::other)?;
    writer.write(&batch).map_err(FileError::other)?;
    writer.close().map_err(FileError::other)?;
    Ok(())
}

fn form_of(kind: Kind) -> DataType {
    match kind.storage() {
        crate::table::Storage::Numbers => DataType::Float64,
        crate::table::Storage::Words => DataType::Utf8,
        crate::table::Storage::Dates => DataType::Date32,
    }
}

fn array(column: &Column) -> ArrayRef {
    match &column.values {
        Values::Numbers(numbers) => Arc::new(numbers.clone()),
        Values::Dates(dates) => Arc::new(dates.clone()),
        Values::Words(words) => Arc::new((0..words.len()).map(|row| words.get(row)).collect::<StringArray>()),
    }
}
