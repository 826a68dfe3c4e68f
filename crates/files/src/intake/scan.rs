//! One pass over a file to understand it.

use std::io::{self, Read, Seek};
use std::sync::mpsc::sync_channel;

use super::block::RowBlock;
use super::filling::ColumnFilling;
use super::gathering::{Gathered, gather};
use super::infer::KindTally;
use super::misfit::Misfits;
use super::plan::{ColumnPlan, ReadPlan, Scan};
use super::read::FileReader;
use super::{Format, IntakeError, names};
use pronoia_data::Progress;
use pronoia_data::progress::ProgressPart;

/// Rows shown before a file is accepted.
const FIRST_ROWS: usize = 20;

/// Blocks that may wait to be looked at.
const AHEAD: usize = 2;

/// Rows that are read at a time when only what does not fit is wanted.
const LOOK: usize = 20_000;

/// A file to be read: how to open it, how long it is, and which sheet is wanted
/// if it is a workbook.
#[derive(Debug, Clone, Copy)]
pub struct Intake<'a, F> {
    /// Opens it; called once a pass, and must give the same bytes each time.
    pub open: F,
    /// Length in bytes, for the share done; 0 if unknown.
    pub size: u64,
    /// The sheet of a workbook; without it, the first with anything on it.
    pub sheet: Option<&'a str>,
}

impl<F, R> Intake<'_, F>
where
    F: Fn() -> io::Result<R>,
    R: Read + Seek + Send + 'static,
{
    /// Reads the file from end to end and says what is in it.
    ///
    /// # Errors
    /// [`IntakeError`] if it cannot become a table at all. Rows and cells that
    /// do not fit are no error; they are in the [`Scan`].
    pub fn scan(&self, progress: &dyn Progress) -> Result<Scan, IntakeError> {
        let Understood { mut scan, cells, .. } = self.understand(false, &ProgressPart::of(progress, 0.0, 0.6))?;
        if cells > 0 {
            // Some cells do not read as their column's kind: a second look says which.
            let reader = FileReader { plan: &scan.plan, size: self.size, chunk: LOOK };
            let misfits = reader.read((self.open)()?, &ProgressPart::of(progress, 0.6, 1.0), &mut |_| Ok(()))?;
            scan.count(misfits);
        }
        Ok(scan)
    }

    /// One pass over the file: what is in it, how many cells do not fit, and the
    /// columns that it was filled into, if that is wanted.
    pub(super) fn understand(&self, fills: bool, progress: &dyn Progress) -> Result<Understood, IntakeError> {
        let mut source = (self.open)()?;
        let mut format = Format::find(&mut source, self.sheet)?;
        let mut rows = format.open(source)?;
        let length = if rows.length() > 0 { rows.length() } else { self.size };
        let known = rows.names().to_vec();
        // One thread takes the rows apart while others look at the values.
        let (blocks, arriving) = sync_channel(AHEAD);
        let (seen, columns) = std::thread::scope(|scope| {
            let gathering = scope.spawn(|| gather(arriving, &known, fills));
            let mut seen = ScannedRows::default();
            let read = rows.each(&mut |block| {
                progress.go_on()?;
                progress.tell("Reading the file to see what is in it", block.passed as f64 / length.max(1) as f64);
                seen.look_at(&block);
                // Whoever gathers stays until there are no more.
                let _ = blocks.send(block);
                Ok(())
            });
            drop(blocks);
            let columns = gathering.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            read.map(|()| (seen, columns))
        })?;
        let mut notes = rows.notes();
        if let Format::JsonLines { keys } = &mut format {
            *keys = rows.names().to_vec();
        }
        let names = names::settle(rows.names(), &mut notes)?;
        seen.conclude(columns, format, names, notes)
    }
}

/// What one pass over a file has shown.
pub(super) struct Understood {
    /// What is in it. Of the misfits, only rows.
    pub scan: Scan,
    /// How many cells do not read as their column's kind.
    pub cells: u64,
    /// The columns, as far as they were filled.
    pub fillings: Vec<ColumnFilling>,
}

/// What was seen of a file so far, besides what its values look like.
#[derive(Default)]
struct ScannedRows {
    rows: u64,
    misfits: Misfits,
    first_rows: Vec<Vec<String>>,
}

impl ScannedRows {
    fn look_at(&mut self, block: &RowBlock) {
        self.misfits.reject(&block.misfits);
        self.rows += block.len() as u64;
        for row in 0..block.len().min(FIRST_ROWS - self.first_rows.len()) {
            self.first_rows.push(block.row(row).map(str::to_owned).collect());
        }
    }

    fn conclude(
        mut self,
        mut columns: Vec<Gathered>,
        format: Format,
        names: Vec<String>,
        mut notes: Vec<String>,
    ) -> Result<Understood, IntakeError> {
        if self.rows == 0 {
            return Err(match self.misfits.kept.first() {
                None => IntakeError::HeaderOnly { columns: names.len() },
                Some(first) => IntakeError::NothingFits {
                    rows: self.misfits.rejected,
                    columns: names.len(),
                    place: format.place(),
                    line: first.line,
                    why: first.sentence(),
                },
            });
        }
        columns.resize_with(names.len(), Gathered::default);
        for row in &mut self.first_rows {
            row.resize(names.len(), String::new());
        }
        let comma_file = KindTally::comma_file(columns.iter().map(|c| &c.tally));
        let mut cells = 0;
        let plans: Vec<ColumnPlan> = names
            .into_iter()
            .zip(&columns)
            .map(|(name, Gathered { tally, .. })| {
                let (kind, format, reason) = tally.conclude(&name, comma_file);
                cells += tally.misfits(format);
                ColumnPlan { name, kind, format, reason }
            })
            .collect();
        let ambiguous: Vec<&str> = plans.iter().filter(|c| c.is_ambiguous()).map(|c| c.name.as_str()).collect();
        if !ambiguous.is_empty() {
            notes.push(format!(
                "Day and month are ambiguous in {}; they are read day first. Choose below if it is the other way round.",
                ambiguous.join(", ")
            ));
        }
        let scan = Scan {
            plan: ReadPlan { format, columns: plans },
            rows: self.rows,
            rejected: self.misfits.rejected,
            misfit_cells: 0,
            misfits: self.misfits.kept,
            first_rows: self.first_rows,
            notes,
        };
        Ok(Understood { scan, cells, fillings: columns.into_iter().filter_map(|c| c.filling).collect() })
    }
}
