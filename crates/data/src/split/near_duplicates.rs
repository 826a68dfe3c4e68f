//! Rows that are judged and are nearly the same as one that was learned from.

use std::collections::HashSet;
use std::hash::{DefaultHasher, Hash, Hasher};

use serde::{Deserialize, Serialize};

use super::Split;
use crate::Column;
use crate::table::ColumnValues;

/// Steps that a standard deviation is cut into; two quantities in the same
/// step count as the same.
const STEPS: f64 = 20.0;

/// How many judged rows are nearly the same as a training row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Alike {
    /// Validation and test rows.
    pub judged: u64,
    /// Of them, those with the values of a training row in every column, up to
    /// a twentieth of a standard deviation.
    pub alike: u64,
}

impl Alike {
    /// Compares rows by the columns given.
    pub fn of(columns: &[&Column], dealt: &Split) -> Self {
        let scales: Vec<f64> = columns.iter().map(|c| step(c, &dealt.training)).collect();
        let mark = |row: usize| {
            let mut hasher = DefaultHasher::new();
            for (column, scale) in columns.iter().zip(&scales) {
                match &column.values {
                    ColumnValues::Words(words) => words.code(row).hash(&mut hasher),
                    _ => column.number(row).map(|x| (x / scale).round() as i64).hash(&mut hasher),
                }
            }
            hasher.finish()
        };
        let known: HashSet<u64> = dealt.training.iter().map(|&row| mark(row)).collect();
        let judged = || dealt.validation.iter().chain(&dealt.test);
        let alike = judged().filter(|&&row| known.contains(&mark(row))).count() as u64;
        Self { judged: judged().count() as u64, alike }
    }
}

/// The step of a quantity; 1 if it never varies.
fn step(column: &Column, rows: &[usize]) -> f64 {
    let values: Vec<f64> = rows.iter().filter_map(|&row| column.number(row)).collect();
    let n = values.len().max(1) as f64;
    let mean = values.iter().sum::<f64>() / n;
    let sd = (values.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / n).sqrt();
    if sd > 0.0 { sd / STEPS } else { 1.0 }
}
