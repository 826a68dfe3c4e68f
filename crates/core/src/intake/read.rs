//! One pass over a file to read its rows in the way that was understood.

use std::io::{self, Cursor, Read, Seek};

use rayon::prelude::*;

use super::filling::Filling;
use super::plan::{ColumnPlan, Misfit, Plan, Scan};
use super::scan::{Intake, Understood};
use super::{IntakeError, MISFITS_KEPT};
use crate::progress::Part;
use crate::{Progress, Table};

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
    /// Counts rows that are left out.
    pub(super) fn reject(&mut self, rows: &[Misfit]) {
        self.rejected += rows.len() as u64;
        let room = MISFITS_KEPT - self.kept.len();
        self.kept.extend(rows.iter().take(room).cloned());
    }

    /// Counts what did not fit into the columns, which stand in the order of the plan.
    fn count(&mut self, fillings: &[Filling], plans: &[ColumnPlan]) {
        self.cells += fillings.iter().map(|filling| filling.misfits).sum::<u64>();
        self.kept.extend(fillings.iter().flat_map(|filling| filling.first_misfits(&plans[filling.at])));
        // Stable, so that cells of one row stay in the order of the columns.
        self.kept.sort_by_key(|misfit| misfit.line);
        self.kept.truncate(MISFITS_KEPT);
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
        let plans = &self.plan.columns;
        let mut fillings: Vec<Filling> =
            plans.iter().enumerate().map(|(at, plan)| Filling::new(at, plan.kind, plan.format)).collect();
        let mut misfits = self.fill(source, &mut fillings, progress, &mut |fillings| {
            let rows = fillings.first().map_or(0, Filling::len);
            if rows >= self.chunk { take(table(fillings, plans)?) } else { Ok(()) }
        })?;
        if fillings.first().is_some_and(|filling| filling.len() > 0) {
            take(table(&mut fillings, plans)?)?;
        }
        misfits.count(&fillings, plans);
        Ok(misfits)
    }

    /// Fills some columns with all rows; `after` is called after some of them. Gives
    /// the rows that were left out.
    fn fill(
        &self,
        source: impl Read + Seek + Send + 'static,
        fillings: &mut [Filling],
        progress: &dyn Progress,
        after: &mut dyn FnMut(&mut [Filling]) -> Result<(), IntakeError>,
    ) -> Result<Misfits, IntakeError> {
        let mut rows = self.plan.format.open(source)?;
        let length = if rows.length() > 0 { rows.length() } else { self.size };
        let mut misfits = Misfits::default();
        rows.each(&mut |block| {
            progress.go_on()?;
            progress.tell("Reading the rows", block.passed as f64 / length.max(1) as f64);
            misfits.reject(&block.misfits);
            fillings.par_iter_mut().for_each(|filling| filling.take(&block));
            after(fillings)
        })?;
        progress.go_on()?;
        Ok(misfits)
    }
}

fn table(fillings: &mut [Filling], plans: &[ColumnPlan]) -> Result<Table, IntakeError> {
    let columns = fillings.iter_mut().map(|filling| filling.finish(&plans[filling.at])).collect();
    Table::new(columns).map_err(|e| IntakeError::Read(io::Error::other(e)))
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
        let Understood { mut scan, fillings, .. } = self.understand(true, &Part::of(progress, 0.0, 0.8))?;
        change(&mut scan);
        let plans = &scan.plan.columns;
        // What turned out to be read otherwise than it looked like at first is read once more.
        let mut fillings: Vec<Filling> = fillings.into_iter().filter(|f| f.follows(&plans[f.at])).collect();
        let missing = |at: &usize| fillings.iter().all(|filling| filling.at != *at);
        let others = (0..plans.len()).filter(missing).map(|at| Filling::new(at, plans[at].kind, plans[at].format));
        let mut others: Vec<Filling> = others.collect();
        if !others.is_empty() {
            let reader = Reader { plan: &scan.plan, size: self.size, chunk: usize::MAX };
            reader.fill((self.open)()?, &mut others, &Part::of(progress, 0.8, 1.0), &mut |_| Ok(()))?;
        }
        fillings.extend(others);
        fillings.sort_by_key(|filling| filling.at);
        let mut misfits = Misfits { kept: std::mem::take(&mut scan.misfits), rejected: scan.rejected, cells: 0 };
        misfits.count(&fillings, plans);
        let table = table(&mut fillings, plans)?;
        scan.count(misfits);
        Ok((table, scan))
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
