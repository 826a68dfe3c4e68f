//! A table described: per column how many values there are, which, and in what shape.

mod changes;
mod systematic_sample;
mod unusual;

pub use changes::{ColumnChange, changes};
pub use systematic_sample::Evenly;
pub use unusual::Unlike;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::stats::quantile;
use crate::table::{Column, ColumnValues, written_date, written_number};
use crate::{Kind, Table};

/// Bars of the shape of a numeric column, at most.
const BARS: usize = 24;

/// Most frequent values listed per column.
const TOP: usize = 10;

/// The figures of one table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TableProfile {
    /// Number of rows.
    pub rows: u64,
    /// One entry per column, in the order of the table.
    pub columns: Vec<ColumnProfile>,
    /// How many rows the figures of columns are of, where they were drawn from all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drawn: Option<u64>,
    /// Rows that say the same as an earlier one in every column.
    #[serde(default)]
    pub repeated: u64,
    /// Rows unlike the others, the strangest first.
    #[serde(default)]
    pub unlike: Vec<Unlike>,
}

/// The figures of one column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ColumnProfile {
    /// Its name.
    pub name: String,
    /// Its kind.
    pub kind: Kind,
    /// Rows without a value.
    pub missing: u64,
    /// Different values among the others.
    pub distinct: u64,
    /// Figures of a quantity or a date (as days since 1970-01-01).
    pub numbers: Option<NumberProfile>,
    /// The most frequent values with their counts; for numbers only where few differ.
    pub top: Vec<(String, u64)>,
}

/// Figures of a quantity.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NumberProfile {
    /// Least value.
    pub min: f64,
    /// First quartile.
    pub lower_quartile: f64,
    /// Median.
    pub median: f64,
    /// Third quartile.
    pub upper_quartile: f64,
    /// Greatest value.
    pub max: f64,
    /// Arithmetic mean.
    pub mean: f64,
    /// Sample standard deviation (divisor n − 1); 0 for a single value.
    pub sd: f64,
    /// Edges of the bars, one more than there are bars.
    pub edges: Vec<f64>,
    /// Rows per bar.
    pub bars: Vec<u64>,
}

impl TableProfile {
    /// Describes every column.
    pub fn of(table: &Table) -> Self {
        Self::of_parts(std::slice::from_ref(table))
    }

    /// Describes a table that came in parts with the same columns; only a few
    /// columns at a time are put together, so that it takes little more memory
    /// than the parts.
    pub fn of_parts(parts: &[Table]) -> Self {
        let width = parts.first().map_or(0, |p| p.columns().len());
        let whole = |at: usize| Column::concat(&parts.iter().map(|p| &p.columns()[at]).collect::<Vec<_>>());
        let rows = parts.iter().map(|p| p.rows() as u64).sum();
        let columns: Vec<ColumnProfile> =
            (0..width).into_par_iter().filter_map(|at| whole(at).map(|c| ColumnProfile::of(&c))).collect();
        let (repeated, unlike) = unusual::look(parts, &columns);
        Self { rows, columns, drawn: None, repeated, unlike }
    }

    /// How many rows the figures of columns are of.
    pub fn described(&self) -> u64 {
        self.drawn.unwrap_or(self.rows)
    }

    /// The column of that name.
    pub fn column(&self, name: &str) -> Option<&ColumnProfile> {
        self.columns.iter().find(|c| c.name == name)
    }
}

impl ColumnProfile {
    /// Describes one column.
    pub fn of(column: &Column) -> Self {
        let missing = column.missing() as u64;
        let (distinct, numbers, top) = match &column.values {
            ColumnValues::Words(words) => {
                let mut counts: Vec<(&str, u64)> = words.levels().zip(words.counts()).filter(|c| c.1 > 0).collect();
                let distinct = counts.len() as u64;
                counts.sort_unstable_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(b.0)));
                let top = counts.into_iter().take(TOP).map(|(v, n)| (v.to_owned(), n)).collect();
                (distinct, None, top)
            }
            ColumnValues::Numbers(a) => of_numbers(a.iter().flatten().collect(), written_number),
            ColumnValues::Dates(a) => {
                of_numbers(a.iter().flatten().map(f64::from).collect(), |d| written_date(d as i32))
            }
        };
        Self { name: column.name.clone(), kind: column.kind, missing, distinct, numbers, top }
    }

    /// The most frequent value and its count.
    pub fn mode(&self) -> Option<(&str, u64)> {
        self.top.first().map(|(v, n)| (v.as_str(), *n))
    }
}

fn of_numbers(mut values: Vec<f64>, write: impl Fn(f64) -> String) -> (u64, Option<NumberProfile>, Vec<(String, u64)>) {
    if values.is_empty() {
        return (0, None, Vec::new());
    }
    values.sort_unstable_by(f64::total_cmp);
    let mut runs: Vec<(f64, u64)> = Vec::new();
    for &v in &values {
        match runs.last_mut() {
            Some((last, n)) if *last == v => *n += 1,
            _ => runs.push((v, 1)),
        }
    }
    let distinct = runs.len() as u64;
    let few = runs.len() <= 50 || runs.len() * 20 < values.len();
    let top = if few {
        let mut ranked = runs.clone();
        ranked.sort_unstable_by(|a, b| b.1.cmp(&a.1).then(a.0.total_cmp(&b.0)));
        ranked.into_iter().take(TOP).map(|(v, n)| (write(v), n)).collect()
    } else {
        Vec::new()
    };
    let (min, max) = (values[0], values[values.len() - 1]);
    let (mean, sd) = mean_and_sd(&values, max.abs().max(min.abs()));
    let (edges, bars) = shape(&values);
    let profile = NumberProfile {
        min,
        lower_quartile: quantile(&values, 0.25),
        median: quantile(&values, 0.5),
        upper_quartile: quantile(&values, 0.75),
        max,
        mean,
        sd,
        edges,
        bars,
    };
    (distinct, Some(profile), top)
}

/// Mean and sample standard deviation (0 for a single value) of values no farther from 0 than `reach`.
/// Both are finite, however large the values are.
fn mean_and_sd(values: &[f64], reach: f64) -> (f64, f64) {
    // Only where squares would be infinite is everything counted in units of the largest.
    let unit = if reach > 1e150 { reach } else { 1.0 };
    let n = values.len() as f64;
    let mean = values.iter().map(|v| v / unit).sum::<f64>() / n;
    let squares: f64 = values.iter().map(|v| (v / unit - mean).powi(2)).sum();
    let sd = if values.len() > 1 { (squares / (n - 1.0)).sqrt() } else { 0.0 };
    (mean * unit, (sd * unit).min(f64::MAX))
}

/// Equal bars of a round width over the range; one bar per value where only a
/// few whole numbers occur. Gives the edges of the bars and what is in each;
/// nothing without values.
pub(crate) fn shape(sorted: &[f64]) -> (Vec<f64>, Vec<u64>) {
    let (Some(&min), Some(&max)) = (sorted.first(), sorted.last()) else { return (Vec::new(), Vec::new()) };
    let whole = sorted.iter().all(|v| v.fract() == 0.0);
    if whole && max - min < BARS as f64 {
        let count = (max - min) as usize + 1;
        let edges = (0..=count).map(|i| min - 0.5 + i as f64).collect();
        let mut bars = vec![0; count];
        for v in sorted {
            bars[(v - min) as usize] += 1;
        }
        return (edges, bars);
    }
    if max <= min {
        return (vec![min, max], vec![sorted.len() as u64]);
    }
    let width = round_width(max / BARS as f64 - min / BARS as f64);
    let first = (min / width).floor();
    let count = ((max / width).floor() - first) as usize + 1;
    let edges: Vec<f64> = (0..=count).map(|i| ((first + i as f64) * width).clamp(f64::MIN, f64::MAX)).collect();
    let mut bars = vec![0; count];
    for v in sorted {
        let at = ((v / width).floor() - first) as usize;
        bars[at.min(count - 1)] += 1;
    }
    (edges, bars)
}

/// The next width of 1, 2 or 5 times a power of ten: values that were rounded
/// then fall into the bars evenly.
fn round_width(least: f64) -> f64 {
    let power = 10f64.powf(least.log10().floor());
    [1.0, 2.0, 5.0].into_iter().map(|m| m * power).find(|w| *w >= least).unwrap_or(10.0 * power)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::ColumnBuilder;

    #[test]
    fn figures_of_numbers_are_those_of_the_textbook() {
        let mut b = ColumnBuilder::new("x", Kind::Number);
        for v in [2.0, 4.0, 4.0, 4.0, 5.0, 5.0, 7.0, 9.0] {
            b.push_number(v);
        }
        b.push_missing();
        let p = ColumnProfile::of(&b.finish());
        let n = p.numbers.as_ref().expect("numbers");
        assert_eq!((p.missing, p.distinct), (1, 5));
        assert_eq!((n.mean, n.median, n.lower_quartile), (5.0, 4.5, 4.0));
        assert!((n.sd - (32.0f64 / 7.0).sqrt()).abs() < 1e-12);
        assert_eq!(n.bars.iter().sum::<u64>(), 8);
        assert_eq!(p.mode(), Some(("4", 3)));
    }
}
