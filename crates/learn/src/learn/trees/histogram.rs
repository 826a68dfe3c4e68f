//! Sums of gradients per bin.

use rayon::prelude::*;

use super::binning::{Binned, GROUP};

/// Bins kept for a feature, that of the missing values among them.
const WIDTH: usize = 256;

/// Rows that are fetched together.
const FETCHED: usize = 64;

/// Packed sums of every bin of every feature at one node.
pub struct Histogram {
    /// `groups[g][k][bin]` belongs to feature `8 g + k`.
    groups: Vec<Box<[[i64; WIDTH]; GROUP]>>,
}

impl Histogram {
    /// Sums over some rows; `packed[i]` belongs to `rows[i]`, or to row `i` where
    /// all rows are meant.
    pub fn of(binned: &Binned, rows: Option<&[u32]>, packed: &[i64]) -> Self {
        let groups = binned.groups.par_iter().map(|bins| match rows {
            Some(rows) => gathered(bins, rows, packed),
            None => summed(bins.iter().zip(packed)),
        });
        Self { groups: groups.collect() }
    }

    /// What is left of a parent when one child is taken away.
    pub fn less(mut self, child: &Histogram) -> Self {
        for (mine, theirs) in self.groups.iter_mut().zip(&child.groups) {
            let (mine, theirs) = (mine.as_flattened_mut(), theirs.as_flattened());
            mine.iter_mut().zip(theirs).for_each(|(a, b)| *a -= b);
        }
        self
    }

    /// The packed sums of a feature by bin.
    pub fn feature(&self, feature: usize) -> &[i64] {
        &self.groups[feature / GROUP][feature % GROUP]
    }
}

/// Sums of one group of features over rows that lie apart. Some are fetched together
/// before any is counted, so that the memory is asked for many at once.
fn gathered(bins: &[[u8; GROUP]], rows: &[u32], packed: &[i64]) -> Box<[[i64; WIDTH]; GROUP]> {
    let mut sums = Box::new([[0i64; WIDTH]; GROUP]);
    let mut fetched = [[0u8; GROUP]; FETCHED];
    for (rows, packed) in rows.chunks(FETCHED).zip(packed.chunks(FETCHED)) {
        fetched.iter_mut().zip(rows).for_each(|(fetched, &row)| *fetched = bins[row as usize]);
        for (bins, word) in fetched.iter().zip(packed) {
            for (sum, &bin) in sums.iter_mut().zip(bins) {
                sum[usize::from(bin)] += word;
            }
        }
    }
    sums
}

/// Sums of one group of features over all rows.
fn summed<'a>(rows: impl Iterator<Item = (&'a [u8; GROUP], &'a i64)>) -> Box<[[i64; WIDTH]; GROUP]> {
    let mut sums = Box::new([[0i64; WIDTH]; GROUP]);
    for (bins, word) in rows {
        for (sum, &bin) in sums.iter_mut().zip(bins) {
            sum[usize::from(bin)] += word;
        }
    }
    sums
}
