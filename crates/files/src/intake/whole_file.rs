//! A whole file as a table in memory.

use std::io::{self, Cursor, Read, Seek};

use pronoia_data::progress::ProgressPart;
use pronoia_data::{Progress, Table};

use super::IntakeError;
use super::filling::ColumnFilling;
use super::misfit::Misfits;
use super::plan::Scan;
use super::read::{FileReader, count_cells, table};
use super::scan::{Intake, Understood};

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
        let Understood { mut scan, fillings, .. } = self.understand(true, &ProgressPart::of(progress, 0.0, 0.8))?;
        change(&mut scan);
        let plans = &scan.plan.columns;
        // What turned out to be read otherwise than it looked like at first is read once more.
        let mut fillings: Vec<ColumnFilling> = fillings.into_iter().filter(|f| f.follows(&plans[f.at])).collect();
        let missing = |at: &usize| fillings.iter().all(|filling| filling.at != *at);
        let others =
            (0..plans.len()).filter(missing).map(|at| ColumnFilling::new(at, plans[at].kind, plans[at].format));
        let mut others: Vec<ColumnFilling> = others.collect();
        if !others.is_empty() {
            let reader = FileReader { plan: &scan.plan, size: self.size, chunk: usize::MAX };
            reader.fill((self.open)()?, &mut others, &ProgressPart::of(progress, 0.8, 1.0), &mut |_| Ok(()))?;
        }
        fillings.extend(others);
        fillings.sort_by_key(|filling| filling.at);
        let mut misfits = Misfits { kept: std::mem::take(&mut scan.misfits), rejected: scan.rejected, cells: 0 };
        count_cells(&mut misfits, &fillings, plans);
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
