//! One pass over a file to read its rows in the way that was understood.

use std::io::{self, Read, Seek};

use rayon::prelude::*;

use super::filling::ColumnFilling;
use super::misfit::Misfits;
use super::plan::{ColumnPlan, ReadPlan};
use super::{IntakeError, MISFITS_KEPT};
use pronoia_data::{Progress, Table};

/// Reads the rows of a file that was scanned before.
#[derive(Debug, Clone, Copy)]
pub struct FileReader<'a> {
    /// How to read it.
    pub plan: &'a ReadPlan,
    /// Length in bytes, for the share done; 0 if unknown.
    pub size: u64,
    /// About how many rows are handed on at a time.
    pub chunk: usize,
}

impl FileReader<'_> {
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
        let mut fillings: Vec<ColumnFilling> =
            plans.iter().enumerate().map(|(at, plan)| ColumnFilling::new(at, plan.kind, plan.format)).collect();
        let mut misfits = self.fill(source, &mut fillings, progress, &mut |fillings| {
            let rows = fillings.first().map_or(0, ColumnFilling::len);
            if rows >= self.chunk { take(table(fillings, plans)?) } else { Ok(()) }
        })?;
        if fillings.first().is_some_and(|filling| filling.len() > 0) {
            take(table(&mut fillings, plans)?)?;
        }
        count_cells(&mut misfits, &fillings, plans);
        Ok(misfits)
    }

    /// Fills some columns with all rows; `after` is called after some of them. Gives
    /// the rows that were left out.
    pub(super) fn fill(
        &self,
        source: impl Read + Seek + Send + 'static,
        fillings: &mut [ColumnFilling],
        progress: &dyn Progress,
        after: &mut dyn FnMut(&mut [ColumnFilling]) -> Result<(), IntakeError>,
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

pub(super) fn table(fillings: &mut [ColumnFilling], plans: &[ColumnPlan]) -> Result<Table, IntakeError> {
    let columns = fillings.iter_mut().map(|filling| filling.finish(&plans[filling.at])).collect();
    Table::new(columns).map_err(|e| IntakeError::Read(io::Error::other(e)))
}

/// Counts what did not fit into the columns, which stand in the order of the plan.
pub(super) fn count_cells(misfits: &mut Misfits, fillings: &[ColumnFilling], plans: &[ColumnPlan]) {
    misfits.cells += fillings.iter().map(|filling| filling.misfits).sum::<u64>();
    misfits.kept.extend(fillings.iter().flat_map(|filling| filling.first_misfits(&plans[filling.at])));
    // Stable, so that cells of one row stay in the order of the columns.
    misfits.kept.sort_by_key(|misfit| misfit.line);
    misfits.kept.truncate(MISFITS_KEPT);
}
