//! TableWriter as Apache Parquet, compressed with Zstandard.

use std::io::Write;
use std::sync::Arc;

use ::parquet::arrow::ArrowWriter;
use ::parquet::basic::{Compression, ZstdLevel};
use ::parquet::file::properties::WriterProperties;
use arrow_array::{ArrayRef, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema};

use super::{FileError, TableWriter};
use pronoia_data::table::{Column, ColumnValues};
use pronoia_data::{Kind, Table};

/// Bytes that wait in memory to be written, at most.
const MOST_WAITING: usize = 64 << 20;

pub(super) struct Parquet<W: Write + Send> {
    schema: Arc<Schema>,
    writer: ArrowWriter<W>,
}

impl<W: Write + Send> Parquet<W> {
    pub fn begin(columns: &[(String, Kind)], to: W) -> Result<Self, FileError> {
        let fields: Vec<Field> = columns.iter().map(|(name, kind)| Field::new(name, form_of(*kind), true)).collect();
        let schema = Arc::new(Schema::new(fields));
        let properties = WriterProperties::builder().set_compression(Compression::ZSTD(ZstdLevel::default())).build();
        let writer = ArrowWriter::try_new(to, Arc::clone(&schema), Some(properties)).map_err(FileError::other)?;
        Ok(Self { schema, writer })
    }
}

impl<W: Write + Send> TableWriter for Parquet<W> {
    fn add(&mut self, part: &Table) -> Result<(), FileError> {
        let arrays = part.columns().iter().map(array).collect();
        let batch = RecordBatch::try_new(Arc::clone(&self.schema), arrays).map_err(FileError::other)?;
        self.writer.write(&batch).map_err(FileError::other)?;
        // TableWriter wait for their group to be full, with those of earlier parts.
        if self.writer.in_progress_size() > MOST_WAITING {
            self.writer.flush().map_err(FileError::other)?;
        }
        Ok(())
    }

    fn finish(self: Box<Self>) -> Result<(), FileError> {
        self.writer.close().map_err(FileError::other)?;
        Ok(())
    }
}

fn form_of(kind: Kind) -> DataType {
    match kind.storage() {
        pronoia_data::table::Storage::Numbers => DataType::Float64,
        pronoia_data::table::Storage::Words => DataType::Utf8,
        pronoia_data::table::Storage::Dates => DataType::Date32,
    }
}

fn array(column: &Column) -> ArrayRef {
    match &column.values {
        ColumnValues::Numbers(numbers) => Arc::new(numbers.clone()),
        ColumnValues::Dates(dates) => Arc::new(dates.clone()),
        ColumnValues::Words(words) => Arc::new((0..words.len()).map(|row| words.get(row)).collect::<StringArray>()),
    }
}
