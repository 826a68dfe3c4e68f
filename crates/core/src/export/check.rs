//! The formula computed here, and compared with the model.

use arrow_array::Float64Array;

use super::definitions::{Definition, Is, Trees, WeightedSum};
use super::formula::ModelFormula;
use super::refusal::Refusal;
use crate::model::Model;
use pronoia_data::expression::{Type, Vector, value_of};
use pronoia_data::table::ColumnValues;
use pronoia_data::{Column, Kind, Table};

/// How far the probability of a formula may be from that of the model. Networks compute in single
/// precision and their formulas in double precision; all others agree to 1e-12 or so.
pub const TOLERANCE: f64 = 1e-6;

/// How a formula compared with its model.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FormulaCheck {
    /// Customers compared.
    pub rows: usize,
    /// The greatest difference of probabilities.
    pub difference: f64,
}

impl ModelFormula {
    /// Compares the formula with the model it was made of, on these customers.
    ///
    /// # Errors
    /// [`Refusal::Differs`] if a probability differs by more than [`TOLERANCE`],
    /// [`Refusal::Columns`] if the table does not have the columns needed.
    pub fn checked(&self, model: &Model, table: &Table) -> Result<FormulaCheck, Refusal> {
        let rows: Vec<usize> = (0..table.rows()).collect();
        let expected = model.probabilities(table, &rows).map_err(|e| Refusal::Columns(e.to_string()))?;
        let found = self.probabilities(table)?;
        // What is not a number differs from everything.
        let apart = |(a, b): (&f64, &f64)| if (a - b).is_nan() { f64::INFINITY } else { (a - b).abs() };
        let difference = expected.iter().zip(&found).map(apart).fold(0.0, f64::max);
        if difference > TOLERANCE {
            return Err(Refusal::Differs { difference, rows: rows.len() });
        }
        Ok(FormulaCheck { rows: rows.len(), difference })
    }

    /// Probability of every row by the definitions.
    ///
    /// # Errors
    /// [`Refusal::Columns`] if the table does not have the columns needed.
    pub fn probabilities(&self, table: &Table) -> Result<Vec<f64>, Refusal> {
        let mut columns: Vec<Column> = Vec::new();
        for (name, kind) in &self.inputs {
            let column = table.column(name).filter(|column| column.kind.storage() == kind.storage());
            let missing = || Refusal::Columns(format!("“{name}” is not here as a {kind}, which the model needs."));
            columns.push(column.ok_or_else(missing)?.clone());
        }
        for definition in &self.definitions {
            columns.push(self.column(definition, &columns, table.rows()));
        }
        let found = &columns[self.probability];
        Ok((0..table.rows()).map(|row| found.number(row).unwrap_or(f64::NAN)).collect())
    }

    fn column(&self, definition: &Definition, columns: &[Column], rows: usize) -> Column {
        let name = &definition.name;
        match &definition.is {
            Is::DaysSince1970(place) => numbers(name, (0..rows).map(|row| columns[*place].number(row)).collect()),
            Is::Value(node) => {
                let made = value_of(node, columns.iter().collect(), rows).into_column(name);
                // Truth is defined as text already.
                debug_assert_eq!(made.kind == Kind::Number, definition.kind == Type::Number);
                made
            }
            Is::Sum(sum) => numbers(name, (0..rows).map(|row| added(sum, columns, row)).collect()),
            Is::Trees(trees) => numbers(name, grown(trees, columns, rows)),
        }
    }
}

fn numbers(name: &str, values: Vec<Option<f64>>) -> Column {
    let values = ColumnValues::Numbers(Float64Array::from(values));
    Column { name: name.to_owned(), kind: Kind::Number, values }
}

fn added(sum: &WeightedSum, columns: &[Column], row: usize) -> Option<f64> {
    let mut total = sum.constant;
    for (place, weight) in &sum.terms {
        total += weight * columns[*place].number(row)?;
    }
    Some(if sum.rectified { total.max(0.0) } else { total })
}

fn grown(trees: &Trees, columns: &[Column], rows: usize) -> Vec<Option<f64>> {
    let mut totals = vec![trees.start; rows];
    for tree in &trees.trees {
        if let Vector::Number(says) = value_of(&trees.nested(tree, 0), columns.iter().collect(), rows) {
            totals.iter_mut().zip(says.values()).for_each(|(total, says)| *total += says);
        }
    }
    totals.into_iter().map(Some).collect()
}
