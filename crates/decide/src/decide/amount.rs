//! An amount: the same for everybody, or worked out from the columns of each customer.

use std::sync::Arc;

use arrow_array::{Array, Float64Array};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use pronoia_data::Table;
use pronoia_data::expression::{Expression, ExpressionError, Type, Vector};
use pronoia_data::value::{DecimalMark, parse_number};

/// An amount as it was chosen.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Amount {
    /// The same for everybody.
    Same(f64),
    /// Worked out for each customer.
    Each(AmountFormula),
}

/// A standard SQL expression that gives an amount.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AmountFormula {
    /// The expression.
    pub expression: Expression,
    /// What it comes to on average among the customers judged; not a number until that is known.
    #[serde(default = "unknown", deserialize_with = "or_unknown")]
    pub mean: f64,
}

/// An amount for every one of some customers.
#[derive(Debug, Clone, PartialEq)]
pub enum AmountValues {
    /// The same for everybody.
    Same(f64),
    /// One per customer.
    Each(Arc<[f64]>),
}

/// Why there is no amount.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum AmountError {
    /// The expression is wrong.
    #[error(transparent)]
    Expression(#[from] ExpressionError),
    /// It cannot be worked out on these customers.
    #[error("{0}")]
    Customers(String),
}

fn unknown() -> f64 {
    f64::NAN
}

/// JSON has no way to say that a number is none.
fn or_unknown<'de, D: serde::Deserializer<'de>>(from: D) -> Result<f64, D::Error> {
    Ok(Option::<f64>::deserialize(from)?.unwrap_or(f64::NAN))
}

impl Amount {
    /// Reads a number, with a point or a comma before its decimals, or else an expression over
    /// the columns given.
    ///
    /// # Errors
    /// [`AmountError::Expression`], also for one that does not give a number.
    pub fn typed(text: &str, columns: &[(String, Type)]) -> Result<Self, AmountError> {
        let number = |mark| parse_number(text.trim(), mark);
        if let Some(number) = number(DecimalMark::Point).or_else(|| number(DecimalMark::Comma)) {
            return Ok(Self::Same(number));
        }
        let expression = Expression::check(text, columns)?;
        if expression.result() == Type::Number {
            return Ok(Self::Each(AmountFormula { expression, mean: f64::NAN }));
        }
        let message = format!(
            "This gives {}; an amount has to be a number, such as 24 or 0.6 * fee.",
            expression.result().word()
        );
        Err(ExpressionError { message, from: 0, to: text.chars().count() }.into())
    }

    /// The amount, or what it comes to on average.
    pub fn typical(&self) -> f64 {
        match self {
            Self::Same(amount) => *amount,
            Self::Each(formula) => formula.mean,
        }
    }

    /// The formula, where the amount differs by customer.
    pub fn formula(&self) -> Option<&AmountFormula> {
        match self {
            Self::Same(_) => None,
            Self::Each(formula) => Some(formula),
        }
    }

    /// Writes down what a formula comes to on average.
    pub(super) fn note_mean(&mut self, mean: f64) {
        if let Self::Each(formula) = self {
            formula.mean = mean;
        }
    }

    /// Works it out for rows of a table; also for how many it had no value, who are given the mean
    /// of the others.
    ///
    /// # Errors
    /// [`AmountError::Customers`] if the expression cannot be worked out on this table, or has a
    /// value for nobody.
    pub fn values(&self, table: &Table, rows: &[usize]) -> Result<(AmountValues, u64), AmountError> {
        let formula = match self {
            Self::Same(amount) => return Ok((AmountValues::Same(*amount), 0)),
            Self::Each(formula) => formula,
        };
        let numbers = formula.numbers(table)?;
        let known = |row: usize| numbers.is_valid(row).then(|| numbers.value(row));
        let (sum, there) = rows.iter().filter_map(|&row| known(row)).fold((0.0, 0u64), |(s, n), x| (s + x, n + 1));
        if there == 0 {
            let source = formula.expression.source();
            return Err(AmountError::Customers(format!("“{source}” has no value for any of these customers.")));
        }
        let mean = sum / there as f64;
        let values = rows.iter().map(|&row| known(row).unwrap_or(mean)).collect();
        Ok((AmountValues::Each(values), rows.len() as u64 - there))
    }

    /// Works it out for every row of a list; also for how many it has no value that is `possible`,
    /// who are given what it came to on average when it was chosen.
    ///
    /// # Errors
    /// [`AmountError::Customers`] if the expression cannot be worked out on this table, or it is not
    /// known what it came to.
    pub(super) fn applied(
        &self,
        list: &Table,
        possible: impl Fn(f64) -> bool,
    ) -> Result<(AmountValues, u64), AmountError> {
        let formula = match self {
            Self::Same(amount) => return Ok((AmountValues::Same(*amount), 0)),
            Self::Each(formula) => formula,
        };
        if !formula.mean.is_finite() {
            let every: Vec<usize> = (0..list.rows()).collect();
            return self.values(list, &every);
        }
        let numbers = formula.numbers(list)?;
        let known = |row: usize| {
            Some(row).filter(|&row| numbers.is_valid(row)).map(|row| numbers.value(row)).filter(|x| possible(*x))
        };
        let values: Vec<Option<f64>> = (0..list.rows()).map(known).collect();
        let lacking = values.iter().filter(|value| value.is_none()).count() as u64;
        Ok((AmountValues::Each(values.into_iter().map(|value| value.unwrap_or(formula.mean)).collect()), lacking))
    }
}

impl AmountFormula {
    /// Its value in every row.
    fn numbers(&self, table: &Table) -> Result<Float64Array, AmountError> {
        match self.expression.evaluate(table).map_err(AmountError::Customers)?.values {
            Vector::Number(numbers) => Ok(numbers),
            _ => Err(AmountError::Customers(format!("“{}” is not a number.", self.expression.source()))),
        }
    }
}

impl AmountValues {
    /// That of one customer.
    pub fn of(&self, customer: usize) -> f64 {
        match self {
            Self::Same(amount) => *amount,
            Self::Each(amounts) => amounts[customer],
        }
    }

    /// What it comes to on average.
    pub fn mean(&self) -> f64 {
        match self {
            Self::Same(amount) => *amount,
            Self::Each(amounts) => amounts.iter().sum::<f64>() / amounts.len().max(1) as f64,
        }
    }

    /// The least and the greatest.
    pub fn range(&self) -> (f64, f64) {
        match self {
            Self::Same(amount) => (*amount, *amount),
            Self::Each(amounts) => {
                amounts.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), &x| (low.min(x), high.max(x)))
            }
        }
    }
}

impl From<f64> for Amount {
    fn from(amount: f64) -> Self {
        Self::Same(amount)
    }
}
