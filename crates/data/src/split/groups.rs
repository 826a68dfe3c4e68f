//! Rows that belong together, so that no part learns of another's customers.

use std::collections::HashMap;

use crate::Column;

/// The group of every row dealt out, numbered from 0 by first appearance.
pub(super) struct RowGroups {
    of_row: Vec<usize>,
    count: usize,
}

impl RowGroups {
    /// Every row by itself.
    pub(super) fn single(rows: usize) -> Self {
        Self { of_row: (0..rows).collect(), count: rows }
    }

    /// Rows with the same value; a row without one is by itself.
    pub(super) fn of(column: &Column, rows: &[usize]) -> Self {
        let mut seen: HashMap<String, usize> = HashMap::new();
        let mut count = 0;
        let mut next = || {
            count += 1;
            count - 1
        };
        let of_row = rows
            .iter()
            .map(|&row| match column.text(row) {
                Some(value) => *seen.entry(value).or_insert_with(&mut next),
                None => next(),
            })
            .collect();
        Self { of_row, count }
    }

    /// How many there are.
    pub(super) fn count(&self) -> usize {
        self.count
    }

    /// For every group, whether something holds for any of its rows.
    pub(super) fn any(&self, holds: impl Fn(usize) -> bool) -> Vec<bool> {
        let mut any = vec![false; self.count];
        self.of_row.iter().enumerate().for_each(|(row, &group)| any[group] |= holds(row));
        any
    }

    /// How many rows every group has.
    pub(super) fn sizes(&self) -> Vec<usize> {
        let mut sizes = vec![0; self.count];
        self.of_row.iter().for_each(|&group| sizes[group] += 1);
        sizes
    }

    /// The greatest number of the column in every group; none without one.
    pub(super) fn latest(&self, column: &Column, rows: &[usize]) -> Vec<Option<f64>> {
        let mut latest: Vec<Option<f64>> = vec![None; self.count];
        for (&group, &row) in self.of_row.iter().zip(rows) {
            if let Some(when) = column.number(row) {
                latest[group] = Some(latest[group].map_or(when, |l| l.max(when)));
            }
        }
        latest
    }

    /// What was said of every group, row by row.
    pub(super) fn spread<T: Copy>(&self, of_group: &[T]) -> Vec<T> {
        self.of_row.iter().map(|&group| of_group[group]).collect()
    }
}
