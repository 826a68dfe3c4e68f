//! Parquet and Arrow, read batch by batch.

use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use arrow_array::RecordBatch;
use arrow_cast::display::{ArrayFormatter, FormatOptions};
use arrow_schema::{ArrowError, DataType, Schema};
use bytes::Bytes;
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use parquet::errors::ParquetError;
use parquet::file::reader::{ChunkReader, Length};

use super::block::{RowBlock, RowSink, RowSource};
use super::field::FieldKind;
use super::guard::guarded;
use super::{IntakeError, MOST_COLUMNS, arrow_lengths, parquet_footer};

/// Rows of a batch.
const BATCH: usize = 4_096;

type Batches = Box<dyn Iterator<Item = Result<RecordBatch, ArrowError>>>;

/// A file whose columns have types of their own.
pub(super) struct Columnar {
    names: Vec<String>,
    notes: Vec<String>,
    rows: u64,
    batches: Batches,
}

impl Columnar {
    /// Opens a Parquet file.
    pub fn parquet<R: Read + Seek + Send + 'static>(mut source: R) -> Result<Self, IntakeError> {
        parquet_footer::check(&mut source)?;
        let builder = ParquetRecordBatchReaderBuilder::try_new(SharedBytes::new(source)?).map_err(broken_parquet)?;
        let schema = Arc::clone(builder.schema());
        let rows = u64::try_from(builder.metadata().file_metadata().num_rows()).unwrap_or(0);
        let (kept, notes) = flat_columns(&schema)?;
        let mask = ProjectionMask::roots(builder.parquet_schema(), kept.iter().copied());
        let batches = builder.with_projection(mask).with_batch_size(BATCH).build().map_err(broken_parquet)?;
        Ok(Self { names: names(&schema, &kept), notes, rows, batches: Box::new(batches) })
    }

    /// Opens an Arrow file.
    pub fn arrow<R: Read + Seek + 'static>(mut source: R) -> Result<Self, IntakeError> {
        arrow_lengths::check_file(&mut source)?;
        let whole = arrow_ipc::reader::FileReader::try_new(BufReader::new(source), None).map_err(broken)?;
        let rows = (whole.num_batches() as u64).saturating_mul(BATCH as u64);
        Self::projected(&whole.schema(), rows, whole)
    }

    /// Opens an Arrow stream.
    pub fn arrow_stream<R: Read + Seek + 'static>(mut source: R) -> Result<Self, IntakeError> {
        arrow_lengths::check_stream(&mut source)?;
        let whole = arrow_ipc::reader::StreamReader::try_new(BufReader::new(source), None).map_err(broken)?;
        Self::projected(&whole.schema(), 0, whole)
    }

    /// The columns with one value a row, of batches with all of them.
    fn projected(
        schema: &Schema,
        rows: u64,
        whole: impl Iterator<Item = Result<RecordBatch, ArrowError>> + 'static,
    ) -> Result<Self, IntakeError> {
        let (kept, notes) = flat_columns(schema)?;
        let names = names(schema, &kept);
        let batches = whole.map(move |batch| batch.and_then(|b| b.project(&kept)));
        Ok(Self { names, notes, rows, batches: Box::new(batches) })
    }
}

impl RowSource for Columnar {
    fn names(&self) -> &[String] {
        &self.names
    }

    fn length(&self) -> u64 {
        self.rows
    }

    fn notes(&self) -> Vec<String> {
        self.notes.clone()
    }

    fn each(&mut self, take: &mut RowSink) -> Result<(), IntakeError> {
        let mut block = RowBlock::default();
        let mut row = 0;
        let mut text = String::new();
        let options = FormatOptions::new().with_null("");
        let batches = &mut self.batches;
        while let Some(batch) = guarded(|| batches.next().transpose().map_err(broken))? {
            let told: Vec<FieldKind> = batch.columns().iter().map(|c| told(c.data_type())).collect();
            let writers: Result<Vec<_>, _> =
                batch.columns().iter().map(|c| ArrayFormatter::try_new(c.as_ref(), &options)).collect();
            let writers = writers.map_err(broken)?;
            for at in 0..batch.num_rows() {
                row += 1;
                block.begin(row);
                guarded(|| {
                    for (writer, &told) in writers.iter().zip(&told) {
                        text.clear();
                        writer.value(at).write(&mut text).map_err(broken)?;
                        block.push(&text, told);
                    }
                    Ok(())
                })?;
                block.keep();
                block.passed = row;
                block.hand_on(take)?;
            }
        }
        block.hand_over(take)
    }
}

/// Positions of the columns with one value a row, and a note about the others.
fn flat_columns(schema: &Schema) -> Result<(Vec<usize>, Vec<String>), IntakeError> {
    let (mut kept, mut notes) = (Vec::new(), Vec::new());
    for (i, field) in schema.fields().iter().enumerate() {
        let value = match field.data_type() {
            DataType::Dictionary(_, value) => value.as_ref(),
            other => other,
        };
        let what = match value {
            t if t.is_nested() => "holds lists or records rather than one value a row",
            DataType::Binary
            | DataType::LargeBinary
            | DataType::BinaryView
            | DataType::FixedSizeBinary(_)
            | DataType::Interval(_) => "holds bytes or intervals",
            _ => {
                kept.push(i);
                continue;
            }
        };
        notes.push(format!(
            "The column “{}” {what}; it is not imported. Write it as columns of its own to import it.",
            field.name()
        ));
    }
    if kept.is_empty() {
        return Err(IntakeError::NothingFlat);
    }
    if kept.len() > MOST_COLUMNS {
        return Err(IntakeError::TooManyColumns { found: kept.len() });
    }
    Ok((kept, notes))
}

fn names(schema: &Schema, kept: &[usize]) -> Vec<String> {
    kept.iter().map(|&i| schema.field(i).name().clone()).collect()
}

fn told(data_type: &DataType) -> FieldKind {
    match data_type {
        DataType::Dictionary(_, value) => told(value),
        DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View => FieldKind::Text,
        DataType::Date32 | DataType::Date64 | DataType::Timestamp(_, _) => FieldKind::Day,
        t if t.is_numeric() => FieldKind::Number,
        _ => FieldKind::Nothing,
    }
}

fn broken(e: ArrowError) -> IntakeError {
    IntakeError::Damaged { what: e.to_string() }
}

fn broken_parquet(e: ParquetError) -> IntakeError {
    IntakeError::Damaged { what: e.to_string() }
}

/// A source of bytes that several readers of one Parquet file share, each at a
/// place of its own.
struct SharedBytes<R> {
    source: Arc<Mutex<R>>,
    length: u64,
}

impl<R: Read + Seek> SharedBytes<R> {
    fn new(mut source: R) -> io::Result<Self> {
        let length = source.seek(SeekFrom::End(0))?;
        Ok(Self { source: Arc::new(Mutex::new(source)), length })
    }
}

impl<R> Length for SharedBytes<R> {
    fn len(&self) -> u64 {
        self.length
    }
}

impl<R: Read + Seek + Send> ChunkReader for SharedBytes<R> {
    type T = BufReader<ByteWindow<R>>;

    fn get_read(&self, start: u64) -> parquet::errors::Result<Self::T> {
        Ok(BufReader::new(ByteWindow { source: Arc::clone(&self.source), at: start }))
    }

    fn get_bytes(&self, start: u64, length: usize) -> parquet::errors::Result<Bytes> {
        if start.checked_add(length as u64).is_none_or(|end| end > self.length) {
            return Err(ParquetError::EOF(format!("{length} bytes from {start} on are beyond the end of the file")));
        }
        let mut bytes = vec![0; length];
        let mut source = lock(&self.source);
        source.seek(SeekFrom::Start(start))?;
        source.read_exact(&mut bytes)?;
        Ok(bytes.into())
    }
}

struct ByteWindow<R> {
    source: Arc<Mutex<R>>,
    at: u64,
}

impl<R: Read + Seek> Read for ByteWindow<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let mut source = lock(&self.source);
        source.seek(SeekFrom::Start(self.at))?;
        let read = source.read(buffer)?;
        // A whole file never asks for more than it has; a damaged one may go on
        // asking a thousand million times.
        if read == 0 && !buffer.is_empty() {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        self.at += read as u64;
        Ok(read)
    }
}

/// A reader that panicked leaves nothing behind that the next one relies on:
/// everyone seeks before reading.
fn lock<R>(source: &Mutex<R>) -> MutexGuard<'_, R> {
    source.lock().unwrap_or_else(PoisonError::into_inner)
}
