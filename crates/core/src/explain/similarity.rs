//! How alike customers are, and whether anybody like one really occurs.
//!
//! Two customers differ by the mean over columns of how much each differs, from 0 to 1 (Gower
//! 1971): numbers by their distance over the range that nine in ten customers lie in, everything
//! else by being the same or not.

use rayon::prelude::*;

use pronoia_data::Table;
use pronoia_data::stats::quantile;
use pronoia_data::table::{ColumnValues, Storage};

/// Real customers whose own nearest neighbours say what is usual.
const LOOKED_AT: usize = 150;

/// Real customers among whom those neighbours are sought.
const AMONG: usize = 10_000;

/// A customer farther from everybody than so many of the real ones is like nobody.
const USUAL: f64 = 0.99;

/// Real customers, ready to be compared with others.
#[derive(Debug, Clone)]
pub struct Similarity {
    columns: Vec<Compared>,
    rows: Vec<usize>,
    /// The distance to the nearest other that all but a few of the real customers keep to.
    usual: f64,
}

#[derive(Debug, Clone)]
struct Compared {
    name: String,
    /// Differences of so much are as great as any; none where values are the same or not.
    range: Option<f64>,
}

/// A real customer near another.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Near {
    /// Row in the table of the real customers.
    pub row: usize,
    /// How much the two differ, 0 to 1.
    pub distance: f64,
}

impl Similarity {
    /// Learns from rows of a table how far values lie apart.
    pub fn of(table: &Table, columns: &[String], rows: &[usize]) -> Self {
        let there = columns.iter().filter_map(|name| table.column(name));
        let compared = there.map(|column| {
            let range = (column.kind.storage() != Storage::Words).then(|| {
                let mut values: Vec<f64> = rows.iter().filter_map(|&row| column.number(row)).collect();
                values.sort_unstable_by(f64::total_cmp);
                let range = quantile(&values, 0.95) - quantile(&values, 0.05);
                if range > 0.0 { range } else { f64::MIN_POSITIVE }
            });
            Compared { name: column.name.clone(), range }
        });
        let mut found = Self { columns: compared.collect(), rows: rows.to_vec(), usual: f64::INFINITY };
        let part = |n: usize| -> Vec<usize> {
            let n = n.min(rows.len());
            (0..n).map(|i| rows[i * rows.len() / n]).collect()
        };
        let among = part(AMONG);
        let nearest = part(LOOKED_AT).into_par_iter().map(|own| {
            let one = table.take(&[own]);
            let others = among.iter().filter(|&&row| row != own);
            others.map(|&row| found.distance(table, row, &one)).fold(f64::INFINITY, f64::min)
        });
        let mut nearest: Vec<f64> = nearest.collect();
        nearest.retain(|distance| distance.is_finite());
        nearest.sort_unstable_by(f64::total_cmp);
        if !nearest.is_empty() {
            found.usual = quantile(&nearest, USUAL);
        }
        found
    }

    /// The real customers: rows of their table.
    pub fn rows(&self) -> &[usize] {
        &self.rows
    }

    /// The real customers most like one, who is the only row of `customer`.
    pub fn nearest(&self, table: &Table, customer: &Table, how_many: usize) -> Vec<Near> {
        let of = |&row: &usize| Near { row, distance: self.distance(table, row, customer) };
        let mut all: Vec<Near> = self.rows.par_iter().map(of).collect();
        all.sort_unstable_by(|a, b| a.distance.total_cmp(&b.distance).then(a.row.cmp(&b.row)));
        all.truncate(how_many);
        all
    }

    /// Whether a customer so far from the nearest real one is as near as real ones are to each
    /// other.
    pub fn occurs(&self, nearest: &Near) -> bool {
        nearest.distance <= self.usual
    }

    /// How much two customers differ: a row of the table, and the only row of `customer`.
    pub fn distance(&self, table: &Table, row: usize, customer: &Table) -> f64 {
        let apart =
            self.columns.iter().map(|compared| match (table.column(&compared.name), customer.column(&compared.name)) {
                (Some(a), Some(b)) => compared.apart(&a.values, row, &b.values),
                _ => 0.0,
            });
        apart.sum::<f64>() / self.columns.len().max(1) as f64
    }
}

impl Compared {
    fn apart(&self, a: &ColumnValues, row: usize, b: &ColumnValues) -> f64 {
        use arrow_array::Array;
        let number = |values: &ColumnValues, row: usize| match values {
            ColumnValues::Numbers(v) => v.is_valid(row).then(|| v.value(row)),
            ColumnValues::Dates(v) => v.is_valid(row).then(|| f64::from(v.value(row))),
            ColumnValues::Words(_) => None,
        };
        let differ = |same: bool| if same { 0.0 } else { 1.0 };
        match (a, b, self.range) {
            (ColumnValues::Words(a), ColumnValues::Words(b), _) => differ(a.get(row) == b.get(0)),
            (.., Some(range)) => match (number(a, row), number(b, 0)) {
                (Some(x), Some(y)) => ((x - y).abs() / range).min(1.0),
                (x, y) => differ(x.is_none() && y.is_none()),
            },
            _ => 1.0,
        }
    }
}
