//! How well one column by itself tells the outcome, quickly.

use rayon::prelude::*;

use pronoia_data::Table;
use pronoia_data::evaluate::area_under_roc;
use pronoia_data::stats::quantile;
use pronoia_data::table::{Column, ColumnValues};

/// Parts that take turns in being predicted by the others.
const FOLDS: usize = 3;

/// Bands a numeric column is cut into.
const BANDS: usize = 20;

/// Rows that belong to a rate before the overall rate stops mattering.
const PRIOR_ROWS: f64 = 20.0;

/// Area under ROC of each column by itself, cross-validated.
///
/// `rows` are the training rows, `event[i]` what happened in `rows[i]`. Numbers
/// are cut into twenty bands; a row is scored by the event rate of its value or
/// band among the rows of the other folds, drawn towards the overall rate.
/// Folds are dealt by position, so that the figures never change from one look
/// to the next. Result in the order of the table's columns.
pub fn areas(table: &Table, rows: &[usize], event: &[bool]) -> Vec<(String, f64)> {
    table.columns().par_iter().map(|column| (column.name.clone(), area(column, rows, event))).collect()
}

/// Area under ROC of one column by itself, as [`areas`].
pub fn area(column: &Column, rows: &[usize], event: &[bool]) -> f64 {
    let (codes, levels) = coded(column, rows);
    let overall = event.iter().filter(|&&e| e).count() as f64 / event.len().max(1) as f64;
    let mut sums = vec![[0.0f64; 2]; FOLDS * levels];
    for (i, (&code, &e)) in codes.iter().zip(event).enumerate() {
        let cell = &mut sums[(i % FOLDS) * levels + code];
        cell[0] += f64::from(u8::from(e));
        cell[1] += 1.0;
    }
    let scores: Vec<f64> = codes
        .iter()
        .enumerate()
        .map(|(i, &code)| {
            let (mut events, mut n) = (overall * PRIOR_ROWS, PRIOR_ROWS);
            for fold in (0..FOLDS).filter(|f| *f != i % FOLDS) {
                events += sums[fold * levels + code][0];
                n += sums[fold * levels + code][1];
            }
            events / n
        })
        .collect();
    area_under_roc(&scores, event, None)
}

/// Every row's value or band as a small number, missing last.
fn coded(column: &Column, rows: &[usize]) -> (Vec<usize>, usize) {
    if let ColumnValues::Words(words) = &column.values {
        let missing = words.level_count();
        return (rows.iter().map(|&r| words.code(r).unwrap_or(missing)).collect(), missing + 1);
    }
    let mut sorted: Vec<f64> = rows.iter().filter_map(|&r| column.number(r)).collect();
    sorted.sort_unstable_by(f64::total_cmp);
    let mut edges: Vec<f64> = (1..BANDS).map(|i| quantile(&sorted, i as f64 / BANDS as f64)).collect();
    edges.dedup();
    let missing = edges.len() + 1;
    let band = |x: f64| edges.partition_point(|&e| e < x);
    (rows.iter().map(|&r| column.number(r).map_or(missing, band)).collect(), missing + 1)
}
