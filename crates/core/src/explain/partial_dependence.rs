//! What a model says on average when everybody is given the same value of a column, or of two
//! (partial dependence: Friedman 2001, section 8.2).

use rayon::prelude::*;
use serde::Serialize;

use super::grid::{At, Grid, Spacing};
use super::prepared::{Prepared, probabilities};
use super::{ExplainedCustomers, columns_of};
use crate::model::Model;
use pronoia_data::stats::{Count, mean};
use pronoia_data::table::Column;
use pronoia_learn::prepare::PrepareError;

/// Customers averaged over at most.
const BACKGROUND: usize = 300;

/// Values of a number that are looked at.
const FINE: usize = 25;

/// Values of a category that are looked at.
const LEVELS: usize = 12;

/// Values of each of two columns.
const COARSE: usize = 7;

/// The average effect of a column.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct AverageEffect {
    /// The column, after the steps.
    pub column: String,
    /// Customers averaged over.
    pub customers: u64,
    /// Its values, numbers in order; missing last.
    pub points: Vec<EffectPoint>,
}

/// A value of a column.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct EffectPoint {
    /// The value.
    pub at: At,
    /// Mean probability if everybody had it.
    pub average: f64,
    /// Those who really have it, or a number nearer to it than to any other.
    pub count: Count,
}

/// The average effect of two columns together.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct JointEffect {
    /// The columns, after the steps: the first goes down, the second across.
    pub columns: [String; 2],
    /// Their values.
    pub values: [Vec<At>; 2],
    /// Mean probability if everybody had both, row by row.
    pub average: Vec<f64>,
    /// Those who have both, in the same order.
    pub count: Vec<Count>,
    /// How far log-odds lie from a sum of an effect of each column: the root of the mean square
    /// over customers who had the values of the two independently of each other (Friedman &
    /// Popescu 2008, equation 44, without its denominator, which makes much of weak columns).
    pub beyond: f64,
}

/// Customers on whom a model is asked for averages.
pub struct Averages<'a> {
    prepared: Prepared<'a>,
    columns: Vec<String>,
    /// The columns after the steps, of the rows asked of.
    taken: Vec<Column>,
    event: &'a [bool],
    background: Vec<usize>,
}

impl<'a> Averages<'a> {
    /// Prepares customers, on whom the model was not fitted; `event` says what happened to them.
    ///
    /// # Errors
    /// [`PrepareError`] if a column that the model needs is missing.
    pub fn of(model: &'a Model, customers: ExplainedCustomers, event: &'a [bool]) -> Result<Self, PrepareError> {
        let columns = columns_of(model);
        let prepared = Prepared::of(model, &columns, customers)?;
        let drawn = customers.table.take(customers.rows);
        let mut taken = Vec::new();
        for member in &model.members {
            let stepped = member.preparation.stepped(&drawn)?;
            for column in &member.preparation.columns {
                if !taken.iter().any(|there: &Column| there.name == column.name) {
                    taken.extend(stepped.column(&column.name).cloned());
                }
            }
        }
        let step = customers.rows.len().div_ceil(BACKGROUND).max(1);
        let background = (0..customers.rows.len()).step_by(step).collect();
        Ok(Self { prepared, columns, taken, event, background })
    }

    /// The columns that go into the model.
    pub fn columns(&self) -> &[String] {
        &self.columns
    }

    /// The average effect of a column; none if the model does not take it.
    pub fn effect(&self, column: &str) -> Option<AverageEffect> {
        let (at, grid) = self.grid(column, (FINE, LEVELS), Spacing::Even)?;
        let averages: Vec<f64> =
            grid.spots.par_iter().map(|spot| mean(&probabilities(self.told(&[(at, spot.donor)])))).collect();
        let points = grid.spots.into_iter().zip(averages);
        Some(AverageEffect {
            column: column.to_owned(),
            customers: self.background.len() as u64,
            points: points.map(|(spot, average)| EffectPoint { at: spot.at, average, count: spot.count }).collect(),
        })
    }

    /// The average effect of two columns; none if the model does not take both, or they are one.
    pub fn together(&self, down: &str, across: &str) -> Option<JointEffect> {
        if down == across {
            return None;
        }
        let (i, rows) = self.grid(down, (COARSE, COARSE), Spacing::ByCustomers)?;
        let (j, columns) = self.grid(across, (COARSE, COARSE), Spacing::ByCustomers)?;
        let width = columns.spots.len();
        let told: Vec<(f64, f64)> = (0..rows.spots.len() * width)
            .into_par_iter()
            .map(|cell| {
                let donors = [(i, rows.spots[cell / width].donor), (j, columns.spots[cell % width].donor)];
                let log_odds = self.told(&donors);
                (mean(&log_odds), mean(&probabilities(log_odds)))
            })
            .collect();
        let mut count = vec![Count::default(); told.len()];
        for ((down, across), &event) in rows.of_row.iter().zip(&columns.of_row).zip(self.event) {
            if let (Some(down), Some(across)) = (down, across) {
                count[down * width + across].add(event);
            }
        }
        let weights = [&rows, &columns].map(|grid| grid.spots.iter().map(|s| s.count.rows as f64).collect::<Vec<_>>());
        let log_odds: Vec<f64> = told.iter().map(|t| t.0).collect();
        Some(JointEffect {
            columns: [down.to_owned(), across.to_owned()],
            beyond: beyond_sum(&log_odds, &weights),
            average: told.into_iter().map(|t| t.1).collect(),
            values: [rows, columns].map(|grid| grid.spots.into_iter().map(|spot| spot.at).collect()),
            count,
        })
    }

    fn grid(&self, column: &str, (numbers, levels): (usize, usize), spacing: Spacing) -> Option<(usize, Grid)> {
        let at = self.columns.iter().position(|name| name == column)?;
        let column = self.taken.iter().find(|there| there.name == column)?;
        let most = if matches!(column.values, pronoia_data::table::ColumnValues::Words(_)) { levels } else { numbers };
        let rows = self.prepared.all();
        Some((at, Grid::of(column, &rows, self.event, most, spacing)))
    }

    /// Log-odds of the background, with some columns as single customers have them.
    fn told(&self, donors: &[(usize, usize)]) -> Vec<f64> {
        let rows: Vec<(usize, Vec<usize>)> =
            donors.iter().map(|&(column, donor)| (column, vec![donor; self.background.len()])).collect();
        let from: Vec<(usize, &[usize])> = rows.iter().map(|(column, rows)| (*column, &rows[..])).collect();
        self.prepared.exchanged(&self.background, &from)
    }
}

/// How far the cells of a table lie from a sum of its rows and columns, which count as given.
fn beyond_sum(cells: &[f64], [down, across]: &[Vec<f64>; 2]) -> f64 {
    let share = |weights: &[f64]| -> Vec<f64> {
        let total = weights.iter().sum::<f64>().max(f64::MIN_POSITIVE);
        weights.iter().map(|weight| weight / total).collect()
    };
    let (p, q, width) = (share(down), share(across), across.len());
    let row = |i: usize| (0..width).map(|j| q[j] * cells[i * width + j]).sum::<f64>();
    let column = |j: usize| (0..p.len()).map(|i| p[i] * cells[i * width + j]).sum::<f64>();
    let rows: Vec<f64> = (0..p.len()).map(row).collect();
    let columns: Vec<f64> = (0..width).map(column).collect();
    let middle: f64 = rows.iter().zip(&p).map(|(row, p)| row * p).sum();
    let square = |(cell, told): (usize, &f64)| {
        let (i, j) = (cell / width, cell % width);
        p[i] * q[j] * (told - rows[i] - columns[j] + middle).powi(2)
    };
    cells.iter().enumerate().map(square).sum::<f64>().sqrt()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sum_has_nothing_beyond_and_an_exclusive_or_all_of_it() {
        let even = [vec![1.0, 1.0], vec![1.0, 1.0]];
        assert!(beyond_sum(&[1.0, 3.0, 5.0, 7.0], &even) < 1e-12);
        assert!((beyond_sum(&[0.0, 0.65, 0.65, 0.0], &even) - 0.325).abs() < 1e-12);
        let uneven = [vec![3.0, 1.0], vec![1.0, 4.0]];
        assert!(beyond_sum(&[1.0, 3.0, 5.0, 7.0], &uneven) < 1e-12);
    }
}
