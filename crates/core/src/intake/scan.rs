//! One pass over a file to understand it.

use std::io::{self, Read, Seek};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use rayon::prelude::*;

use super::infer::Tally;
use super::plan::{ColumnPlan, Misfit, Plan, Scan};
use super::read::{Misfits, Reader};
use super::record::Record;
use super::{Format, IntakeError, names};
use crate::Progress;
use crate::progress::Part;

/// Rows shown before a file is accepted.
const FIRST_ROWS: usize = 20;

/// Rows that are looked at together, column by column on every processor.
const BATCH: usize = 4_096;

/// Batches that may wait to be looked at.
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
        let (mut scan, cells) = self.understand(&Part::of(progress, 0.0, 0.6))?;
        if cells > 0 {
            // Some cells do not read as their column's kind: a second look says which.
            let reader = Reader { plan: &scan.plan, size: self.size, chunk: LOOK };
            let misfits = reader.read((self.open)()?, &Part::of(progress, 0.6, 1.0), &mut |_| Ok(()))?;
            scan.count(misfits);
        }
        Ok(scan)
    }

    /// One pass over the file: what is in it, and how many cells do not fit.
    pub(super) fn understand(&self, progress: &dyn Progress) -> Result<(Scan, u64), IntakeError> {
        let mut source = (self.open)()?;
        let mut format = Format::find(&mut source, self.sheet)?;
        let mut rows = format.open(source)?;
        let length = if rows.length() > 0 { rows.length() } else { self.size };
        // One thread takes the rows apart while another looks at the values.
        let (batches, arriving) = sync_channel(AHEAD);
        let (seen, tallies) = std::thread::scope(|scope| {
            let looking = scope.spawn(|| look_at_all(arriving));
            let mut seen = Seen::default();
            let read = rows.each(&mut |record| seen.take(record, length, (&batches, progress)));
            seen.send(&batches);
            // There are no more; whoever looks at them comes to an end.
            drop(batches);
            let tallies = looking.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            read.map(|()| (seen, tallies))
        })?;
        let mut notes = rows.notes();
        if let Format::JsonLines { keys } = &mut format {
            *keys = rows.names().to_vec();
        }
        let names = names::settle(rows.names(), &mut notes);
        seen.conclude(tallies, format, names, notes)
    }
}

/// Takes batches of rows into tallies, one for each column.
fn look_at_all(batches: Receiver<Vec<Record>>) -> Vec<Tally> {
    let mut tallies: Vec<Tally> = Vec::new();
    for batch in batches {
        let width = batch.iter().map(|r| r.fields.len()).max().unwrap_or(0);
        if tallies.len() < width {
            tallies.resize_with(width, Tally::default);
        }
        tallies.par_iter_mut().enumerate().for_each(|(at, tally)| {
            batch.iter().for_each(|record| tally.see(record.text(at), record.told(at)));
        });
    }
    tallies
}

/// What was seen of a file so far, besides what its values look like.
#[derive(Default)]
struct Seen {
    batch: Vec<Record>,
    rows: u64,
    misfits: Misfits,
    first_rows: Vec<Vec<String>>,
    first_misfit: Option<Misfit>,
}

impl Seen {
    fn take(
        &mut self,
        record: &mut Record,
        length: u64,
        (batches, progress): (&SyncSender<Vec<Record>>, &dyn Progress),
    ) -> Result<(), IntakeError> {
        if let Some((kind, row)) = &record.misfit {
            let misfit = Misfit { line: record.line, kind: kind.clone(), row: row.clone() };
            self.first_misfit.get_or_insert_with(|| misfit.clone());
            self.misfits.reject(misfit);
            return Ok(());
        }
        self.rows += 1;
        if self.first_rows.len() < FIRST_ROWS {
            self.first_rows.push(record.fields.iter().map(str::to_owned).collect());
        }
        let passed = record.passed;
        self.batch.push(std::mem::take(record));
        if self.batch.len() == BATCH {
            progress.go_on()?;
            progress.tell("Reading the file to see what is in it", passed as f64 / length.max(1) as f64);
            self.send(batches);
        }
        Ok(())
    }

    /// Hands the batch on; whoever looks at it stays until there are no more.
    fn send(&mut self, batches: &SyncSender<Vec<Record>>) {
        let _ = batches.send(std::mem::take(&mut self.batch));
    }

    fn conclude(
        mut self,
        mut tallies: Vec<Tally>,
        format: Format,
        names: Vec<String>,
        mut notes: Vec<String>,
    ) -> Result<(Scan, u64), IntakeError> {
        if self.rows == 0 {
            return Err(match self.first_misfit {
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
        tallies.resize_with(names.len(), Tally::default);
        for row in &mut self.first_rows {
            row.resize(names.len(), String::new());
        }
        let comma_file = tallies.iter().map(Tally::comma_vote).sum::<i64>() > 0;
        let mut cells = 0;
        let columns: Vec<ColumnPlan> = names
            .into_iter()
            .zip(&tallies)
            .map(|(name, tally)| {
                let (kind, format, reason) = tally.conclude(&name, comma_file);
                cells += tally.misfits(format);
                ColumnPlan { name, kind, format, reason }
            })
            .collect();
        let ambiguous: Vec<&str> = columns.iter().filter(|c| c.is_ambiguous()).map(|c| c.name.as_str()).collect();
        if !ambiguous.is_empty() {
            notes.push(format!(
                "Day and month cannot be told apart in {}; they are read day first. Choose below if it is the other way round.",
                ambiguous.join(", ")
            ));
        }
        let scan = Scan {
            plan: Plan { format, columns },
            rows: self.rows,
            rejected: self.misfits.rejected,
            misfit_cells: 0,
            misfits: self.misfits.kept,
            first_rows: self.first_rows,
            notes,
        };
        Ok((scan, cells))
    }
}
