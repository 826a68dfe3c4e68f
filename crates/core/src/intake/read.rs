//! One pass over a file to read its rows in the way that was understood.

use std::io::{self, Cursor, Read, Seek};

use rayon::prelude::*;

use super::plan::{ColumnPlan, Misfit, MisfitKind, Plan, Scan};
use super::record::{Record, Told};
use super::scan::Intake;
use super::value::{DateOrder, DecimalMark, ValueFormat, is_missing_mark, parse_date, parse_number};
use super::{IntakeError, MISFITS_KEPT};
use crate::progress::Part;
use crate::table::ColumnBuilder;
use crate::{Progress, Table};

/// Rows that are moved into columns together.
const BATCH: usize = 2_000;

/// What did not fit: all counted, the first kept with their place.
#[derive(Debug, Default)]
pub struct Misfits {
    /// The first ones, in the order of the file.
    pub kept: Vec<Misfit>,
    /// Rows left out.
    pub rejected: u64,
    /// Cells taken as missing.
    pub cells: u64,
}

impl Misfits {
    pub(super) fn reject(&mut self, misfit: Misfit) {
        self.rejected += 1;
        self.keep(misfit);
    }

    fn cell(&mut self, line: u64, column: &ColumnPlan, value: &str) {
        self.cells += 1;
        if self.kept.len() < MISFITS_KEPT {
            let value = value.chars().take(80).collect();
            let kind = MisfitKind::Cell { column: column.name.clone(), kind: column.kind, value };
            self.keep(Misfit { line, kind, row: String::new() });
        }
    }

    fn keep(&mut self, misfit: Misfit) {
        if self.kept.len() < MISFITS_KEPT {
            self.kept.push(misfit);
        }
    }
}

/// Reads the rows of a file that was scanned before.
#[derive(Debug, Clone, Copy)]
pub struct Reader<'a> {
    /// How to read it.
    pub plan: &'a Plan,
    /// Length in bytes, for the share done; 0 if unknown.
    pub size: u64,
    /// About how many rows are handed on at a time.
    pub chunk: usize,
}

impl Reader<'_> {
    /// Hands the rows to `take` in tables of about `chunk` rows, none of them empty.
    ///
    /// # Errors
    /// [`IntakeError`] if the bytes cannot be read or the work was stopped, or
    /// the one that `take` gave.
    pub fn read(
        &self,
        source: impl Read + Seek + Send + 'static,
        progress: &dyn Progress,
        take: &mut dyn FnMut(Table) -> Result<(), IntakeError>,
    ) -> Result<Misfits, IntakeError> {
        let mut rows = self.plan.format.open(source)?;
        let length = if rows.length() > 0 { rows.length() } else { self.size };
        let mut misfits = Misfits::default();
        let mut chunk = self.empty();
        let mut batch: Vec<Record> = Vec::new();
        rows.each(&mut |record| {
            if let Some((kind, row)) = &record.misfit {
                // Misfits stay in the order of the file.
                self.push(&mut batch, &mut chunk, &mut misfits);
                misfits.reject(Misfit { line: record.line, kind: kind.clone(), row: row.clone() });
                return Ok(());
            }
            let passed = record.passed;
            batch.push(std::mem::take(record));
            if batch.len() == BATCH.min(self.chunk) {
                progress.go_on()?;
                progress.tell("Reading the rows", passed as f64 / length.max(1) as f64);
                self.push(&mut batch, &mut chunk, &mut misfits);
                if chunk.first().is_some_and(|c| c.len() >= self.chunk) {
                    take(table(std::mem::replace(&mut chunk, self.empty()))?)?;
                }
            }
            Ok(())
        })?;
        progress.go_on()?;
        self.push(&mut batch, &mut chunk, &mut misfits);
        if chunk.first().is_some_and(|c| !c.is_empty()) {
            take(table(chunk)?)?;
        }
        Ok(misfits)
    }

    fn empty(&self) -> Vec<ColumnBuilder> {
        self.plan.columns.iter().map(|c| ColumnBuilder::new(c.name.clone(), c.kind)).collect()
    }

    /// Moves the rows of a batch into the columns, several columns at a time.
    fn push(&self, batch: &mut Vec<Record>, chunk: &mut [ColumnBuilder], misfits: &mut Misfits) {
        let rows = std::mem::take(batch);
        let columns = self.plan.columns.par_iter().zip(chunk).enumerate();
        let cells: Vec<Vec<(usize, usize)>> = columns
            .map(|(at, (column, builder))| {
                let mut fits = |record: &Record| push(record.text(at), record.told(at), column.format, builder);
                let fit: Vec<bool> = rows.iter().map(&mut fits).collect();
                (0..rows.len()).filter(|&row| !fit[row]).map(|row| (row, at)).collect()
            })
            .collect();
        let mut cells: Vec<(usize, usize)> = cells.into_iter().flatten().collect();
        cells.sort_unstable();
        for (row, at) in cells {
            let record = &rows[row];
            misfits.cell(record.line, &self.plan.columns[at], record.text(at));
        }
    }
}

fn table(columns: Vec<ColumnBuilder>) -> Result<Table, IntakeError> {
    Table::new(columns.into_iter().map(ColumnBuilder::finish).collect())
        .map_err(|e| IntakeError::Read(io::Error::other(e)))
}

impl<F, R> Intake<'_, F>
where
    F: Fn() -> io::Result<R>,
    R: Read + Seek + Send + 'static,
{
    /// Scans and reads the whole file into memory. `change` may alter what was
    /// understood before the rows are read.
    ///
    /// # Errors
    /// As [`Intake::scan`].
    pub fn table(&self, change: impl FnOnce(&mut Scan), progress: &dyn Progress) -> Result<(Table, Scan), IntakeError> {
        let (mut scan, _) = self.understand(&Part::of(progress, 0.0, 0.5))?;
        change(&mut scan);
        let mut whole = None;
        let reader = Reader { plan: &scan.plan, size: self.size, chunk: usize::MAX };
        let misfits = reader.read((self.open)()?, &Part::of(progress, 0.5, 1.0), &mut |table| {
            whole = Some(table);
            Ok(())
        })?;
        scan.count(misfits);
        Ok((whole.ok_or(IntakeError::Empty)?, scan))
    }
}

/// Scans and reads bytes that are in memory.
///
/// # Errors
/// As [`Intake::scan`].
pub fn read_table(bytes: &[u8], progress: &dyn Progress) -> Result<(Table, Scan), IntakeError> {
    let bytes = bytes::Bytes::copy_from_slice(bytes);
    let open = || Ok(Cursor::new(bytes.clone()));
    Intake { open, size: bytes.len() as u64, sheet: None }.table(|_| {}, progress)
}

/// Adds a trimmed field to a column; false if it does not read as the column's kind.
fn push(text: &str, told: Told, format: ValueFormat, builder: &mut ColumnBuilder) -> bool {
    if told == Told::Failure {
        builder.push_missing();
        return false;
    }
    if is_missing_mark(text) {
        builder.push_missing();
        return true;
    }
    let fits = match format {
        ValueFormat::Text => {
            builder.push_word(text);
            return true;
        }
        ValueFormat::Number { mark } => {
            // A number that the file knows as one has a decimal point, whatever others are written with.
            let mark = if told == Told::Number { DecimalMark::Point } else { mark };
            parse_number(text, mark).map(|x| builder.push_number(x))
        }
        ValueFormat::Date { order } => {
            let order = if told == Told::Day { DateOrder::YearMonthDay } else { order };
            parse_date(text, order).map(|d| builder.push_date(d))
        }
    };
    if fits.is_none() {
        builder.push_missing();
    }
    fits.is_some()
}
