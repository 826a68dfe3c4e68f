//! Steps fitted on training rows, and replayed on any rows.

use std::borrow::Cow;
use std::collections::BTreeMap;

use arrow_array::{Array, Float64Array};
use serde::{Deserialize, Serialize};

use super::steps::{Imputation, StepAction};
use super::typed_value::{TypedValue, read_as};
use super::{Encoded, Encoder, PrepareError, TrainingRows, yeo_johnson};
use pronoia_data::drivers::{Bin, Notation};
use pronoia_data::expression::Expression;
use pronoia_data::stats::quantile;
use pronoia_data::table::{ColumnBuilder, ColumnValues};
use pronoia_data::{Column, Kind, Table};

/// The name of the value that stands for all rare ones.
pub const OTHER: &str = "another value";

/// A step with what it learned from training rows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "do")]
pub enum FittedStep {
    /// Makes a column.
    Derive {
        /// Its name.
        name: String,
        /// What it holds.
        expression: Expression,
    },
    /// Puts a value where one is missing.
    Fill {
        /// The column.
        column: String,
        /// The value, as text.
        value: String,
        /// Whether a column says where.
        flag: bool,
    },
    /// Draws values in.
    Cap {
        /// The column.
        column: String,
        /// No value is below.
        low: f64,
        /// No value is above.
        high: f64,
    },
    /// The logarithm with the sign of the number.
    Log {
        /// The column.
        column: String,
    },
    /// The power transform.
    Power {
        /// The column.
        column: String,
        /// Its exponent.
        lambda: f64,
    },
    /// A number as the name of something.
    AsCode {
        /// The column.
        column: String,
    },
    /// A category as a number that was learned from the outcome.
    Encode {
        /// The column.
        column: String,
        /// What it is turned into.
        encoder: Encoder,
        /// What every value stands for.
        encoded: Encoded,
    },
    /// A category as its place in an order.
    Ordered {
        /// The column.
        column: String,
        /// The values, the least first.
        order: Vec<String>,
    },
    /// A number in standard deviations from its mean.
    Standardise {
        /// The column.
        column: String,
        /// The mean of training rows.
        mean: f64,
        /// Their standard deviation; 1 if it never varies.
        sd: f64,
    },
    /// Bands.
    Bands {
        /// The column.
        column: String,
        /// Upper edges of all bands but the last.
        edges: Vec<f64>,
        /// Least value seen.
        least: f64,
        /// Whether all values seen were whole.
        whole: bool,
    },
    /// Rare values as one.
    GroupRare {
        /// The column.
        column: String,
        /// Values that stay.
        kept: Vec<String>,
    },
}

impl FittedStep {
    /// Fits the steps one after the other, each on what those before it left;
    /// gives the table after the last one too, in which a training row never
    /// knows of its own outcome.
    ///
    /// # Errors
    /// [`PrepareError`].
    pub fn fit_all<'a>(
        actions: &[StepAction],
        table: &'a Table,
        training: &TrainingRows,
    ) -> Result<(Vec<Self>, Cow<'a, Table>), PrepareError> {
        let mut stepped = Cow::Borrowed(table);
        let mut fitted = Vec::new();
        for action in actions {
            let step = Self::fit(action, &stepped, training)?;
            let mut after = step.apply(&stepped)?;
            if let Self::Encode { column, encoder, .. } = &step
                && let (Some(source), Some(encoded)) = (stepped.column(column), after.column(column))
            {
                after = after.with(encoder.cross_fit(source, encoded, training));
            }
            stepped = Cow::Owned(after);
            fitted.push(step);
        }
        Ok((fitted, stepped))
    }

    /// Learns what the step needs from `rows` of the table as the steps before
    /// left it.
    ///
    /// # Errors
    /// [`PrepareError`].
    pub fn fit(action: &StepAction, table: &Table, training: &TrainingRows) -> Result<Self, PrepareError> {
        let rows = training.rows;
        let column = |name: &str| table.column(name).ok_or_else(|| PrepareError::MissingColumn(name.to_owned()));
        let sorted = |name: &str| -> Result<Vec<f64>, PrepareError> {
            let column = column(name)?;
            let mut values: Vec<f64> = rows.iter().filter_map(|&row| column.number(row)).collect();
            values.sort_unstable_by(f64::total_cmp);
            Ok(values)
        };
        Ok(match action {
            StepAction::Filter { .. } | StepAction::Sample { .. } => {
                unreachable!("what chooses rows is not replayed")
            }
            StepAction::Derive { name, expression } => {
                let expression = Expression::check(expression, &Expression::columns_of(table))
                    .map_err(|e| PrepareError::Replay(e.to_string()))?;
                Self::Derive { name: name.clone(), expression }
            }
            StepAction::Fill { column: name, with, flag } => {
                let values = || sorted(name);
                let value = match with {
                    Imputation::Value(value) => value.clone(),
                    Imputation::Median => written(quantile(&values()?, 0.5)),
                    Imputation::Mean => {
                        let values = values()?;
                        written(values.iter().sum::<f64>() / values.len() as f64)
                    }
                    Imputation::MostFrequent => most_frequent(column(name)?, rows).unwrap_or_default(),
                };
                Self::Fill { column: name.clone(), value, flag: *flag }
            }
            StepAction::Cap { column, share } => {
                let values = sorted(column)?;
                let (low, high) = (quantile(&values, *share), quantile(&values, 1.0 - share));
                // Without any value nothing is drawn in.
                let finite = |x: f64, or: f64| if x.is_finite() { x } else { or };
                Self::Cap { column: column.clone(), low: finite(low, f64::MIN), high: finite(high, f64::MAX) }
            }
            StepAction::Log { column } => Self::Log { column: column.clone() },
            StepAction::Power { column } => {
                Self::Power { column: column.clone(), lambda: yeo_johnson::fit(&sorted(column)?) }
            }
            StepAction::AsCode { column } => Self::AsCode { column: column.clone() },
            StepAction::Encode { column: name, encoder } => {
                let encoded = encoder.fit(column(name)?, training);
                Self::Encode { column: name.clone(), encoder: *encoder, encoded }
            }
            StepAction::Ordered { column, order } => Self::Ordered { column: column.clone(), order: order.clone() },
            StepAction::Standardise { column } => {
                let values = sorted(column)?;
                let n = values.len().max(1) as f64;
                let mean = values.iter().sum::<f64>() / n;
                let sd = (values.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / n).sqrt();
                Self::Standardise { column: column.clone(), mean, sd: if sd > 0.0 { sd } else { 1.0 } }
            }
            StepAction::Bands { column, bands } => {
                let values = sorted(column)?;
                let mut edges: Vec<f64> = (1..*bands)
                    .map(|i| quantile(&values, i as f64 / *bands as f64))
                    .filter(|x| x.is_finite())
                    .collect();
                edges.dedup();
                edges.retain(|edge| values.last().is_some_and(|last| edge < last));
                let whole = values.iter().all(|x| x.fract() == 0.0) && edges.iter().all(|x| x.fract() == 0.0);
                Self::Bands { column: column.clone(), edges, least: values.first().copied().unwrap_or(0.0), whole }
            }
            StepAction::GroupRare { column: name, fewest } => {
                let kept =
                    counts(column(name)?, rows).into_iter().filter(|(_, n)| n >= fewest).map(|(v, _)| v).collect();
                Self::GroupRare { column: name.clone(), kept }
            }
        })
    }

    /// Takes the step on every row of a table.
    ///
    /// # Errors
    /// [`PrepareError`] if a column that it needs is not there.
    pub fn apply(&self, table: &Table) -> Result<Table, PrepareError> {
        let column = |name: &str| table.column(name).ok_or_else(|| PrepareError::MissingColumn(name.to_owned()));
        let numbers = |name: &str, f: &dyn Fn(f64) -> f64| -> Result<Table, PrepareError> {
            let column = column(name)?;
            let values: Float64Array =
                (0..column.len()).map(|row| column.number(row).map(f).filter(|x| x.is_finite())).collect();
            Ok(table.with(Column { name: name.to_owned(), kind: Kind::Number, values: ColumnValues::Numbers(values) }))
        };
        match self {
            Self::Derive { name, expression } => {
                let (made, _) = expression.column(name, table).map_err(PrepareError::Replay)?;
                Ok(table.with(made))
            }
            Self::Fill { column: name, value, flag } => {
                let source = column(name)?;
                let filled = filled(source, value);
                let mut table = table.with(filled);
                if *flag {
                    let mut built = ColumnBuilder::new(format!("{name} was missing"), Kind::YesNo);
                    (0..source.len())
                        .for_each(|row| built.push_word(if is_missing(source, row) { "yes" } else { "no" }));
                    table = table.with(built.finish());
                }
                Ok(table)
            }
            Self::Cap { column, low, high } => numbers(column, &|x| x.clamp(*low, *high)),
            Self::Log { column } => numbers(column, &|x| x.signum() * x.abs().ln_1p()),
            Self::Power { column, lambda } => numbers(column, &|x| yeo_johnson::transform(x, *lambda)),
            Self::AsCode { column: name } => {
                let source = column(name)?;
                let mut built = ColumnBuilder::new(name.clone(), Kind::Code);
                for row in 0..source.len() {
                    match source.text(row) {
                        Some(digits) => built.push_word(&digits),
                        None => built.push_missing(),
                    }
                }
                Ok(table.with(built.finish()))
            }
            Self::Encode { column: name, encoded, .. } => Ok(table.with(encoded.apply(column(name)?))),
            Self::Ordered { column: name, order } => {
                let source = column(name)?;
                let place = |row: usize| {
                    let value = source.text(row)?;
                    order.iter().position(|o| *o == value).map(|at| (at + 1) as f64)
                };
                let places: Float64Array = (0..source.len()).map(place).collect();
                Ok(table.with(Column { name: name.clone(), kind: Kind::Number, values: ColumnValues::Numbers(places) }))
            }
            Self::Standardise { column, mean, sd } => numbers(column, &|x| (x - mean) / sd),
            Self::Bands { column: name, edges, least, whole } => {
                let source = column(name)?;
                let labels = band_labels(edges, *least, *whole);
                let mut built = ColumnBuilder::new(name.clone(), Kind::Ordered);
                for row in 0..source.len() {
                    match source.number(row) {
                        Some(x) => built.push_word(&labels[edges.partition_point(|&edge| edge < x)]),
                        None => built.push_missing(),
                    }
                }
                Ok(table.with(built.finish()))
            }
            Self::GroupRare { column: name, kept } => {
                let source = column(name)?;
                let ColumnValues::Words(words) = &source.values else {
                    return Err(PrepareError::OtherKind {
                        name: name.clone(),
                        trained: Kind::Category,
                        found: source.kind,
                    });
                };
                let grouped = words.map(|w| if kept.iter().any(|k| k == w) { w.to_owned() } else { OTHER.to_owned() });
                Ok(table.with(Column { name: name.clone(), kind: source.kind, values: ColumnValues::Words(grouped) }))
            }
        }
    }
}

/// What the bands are called that end at these edges, the last one without an end.
pub fn band_labels(edges: &[f64], least: f64, whole: bool) -> Vec<String> {
    let notation = if whole { Notation::Whole } else { Notation::Measured };
    let label = |at: usize| {
        let above = at.checked_sub(1).map(|before| edges[before]);
        Bin { above, up_to: edges.get(at).copied(), least, notation }.label()
    };
    (0..=edges.len()).map(label).collect()
}

fn written(x: f64) -> String {
    if x.is_finite() { pronoia_data::table::written_number(x) } else { String::new() }
}

fn is_missing(column: &Column, row: usize) -> bool {
    match &column.values {
        ColumnValues::Numbers(a) => a.is_null(row),
        ColumnValues::Words(w) => w.code(row).is_none(),
        ColumnValues::Dates(a) => a.is_null(row),
    }
}

/// The column with `value` wherever one is missing; as it was if the value is none.
fn filled(column: &Column, value: &str) -> Column {
    let values = match (&column.values, read_as(value, column.kind)) {
        (ColumnValues::Numbers(a), Some(TypedValue::Number(x))) => {
            ColumnValues::Numbers(a.iter().map(|v| Some(v.unwrap_or(x))).collect())
        }
        (ColumnValues::Dates(a), Some(TypedValue::Day(d))) => {
            ColumnValues::Dates(a.iter().map(|v| Some(v.unwrap_or(d))).collect())
        }
        (ColumnValues::Words(words), Some(TypedValue::Word(word))) => {
            let rows = (0..words.len()).map(|row| Some(words.get(row).unwrap_or(&word)));
            ColumnValues::Words(pronoia_data::table::Words::from_rows(rows))
        }
        (other, _) => other.clone(),
    };
    Column { name: column.name.clone(), kind: column.kind, values }
}

/// The value that most of the rows have; of equally frequent ones the first in order.
fn most_frequent(column: &Column, rows: &[usize]) -> Option<String> {
    let counts = counts(column, rows);
    let most = counts.values().max().copied()?;
    counts.into_iter().find(|(_, n)| *n == most).map(|(v, _)| v)
}

/// How many of the rows have each value.
fn counts(column: &Column, rows: &[usize]) -> BTreeMap<String, u64> {
    let mut counts = BTreeMap::new();
    rows.iter().filter_map(|&row| column.text(row)).for_each(|value| *counts.entry(value).or_default() += 1);
    counts
}
