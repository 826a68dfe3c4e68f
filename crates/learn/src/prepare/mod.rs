//! Preparation steps, fitted on training rows only and replayed on every list.
//!
//! A [`Preparation`] is part of the model: nobody prepares a scoring list by hand.

mod design;
mod effects;
mod encoding;
mod fitting;
mod inputs;
mod sample;
mod spread;
pub mod steps;
mod suggest;
mod typed_value;
mod yeo_johnson;

pub use design::{Design, Feature, FeatureValues};
pub use effects::{StepEffect, effects};
pub use encoding::{Encoded, Encoder};
pub use fitting::band_labels;
pub use fitting::{FittedStep, OTHER};
pub use inputs::{ModelInput, ObservedValues};
pub use sample::SampleSize;
pub use spread::Spread;
pub use steps::{Imputation, PreparationStep, StepAction, StepError};
pub use suggest::suggestions;
pub use typed_value::{TypedValue, read_as};

use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use pronoia_data::table::{Column, ColumnValues};
use pronoia_data::{Kind, Table};

/// What a family of classifiers wants its columns to look like.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Encoding {
    /// Numbers only: gaps filled, categories as indicators, everything
    /// standardised. For families that add columns up.
    Indicators,
    /// As they are: missing stays missing, categories stay categories.
    /// For trees, and for families that count values.
    Native,
    /// Numbers with gaps filled and standardised, categories as they are. For
    /// families that compare customers, or give categories places of their own.
    Standardised,
}

/// Values seen in fewer training rows than this are grouped as "other" among indicators.
const RARE: u64 = 20;

/// The most indicators made of one column; the less frequent values are grouped.
pub const MOST_INDICATORS: usize = 60;

/// The fitted preparation of all predictors.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Preparation {
    /// The columns of the customer that it reads.
    pub inputs: Vec<ModelInput>,
    /// The analyst's steps, in order, with what they learned.
    pub steps: Vec<FittedStep>,
    /// For which kind of family.
    pub encoding: Encoding,
    /// One entry per predictor, in the order of the training table.
    pub columns: Vec<PreparedColumn>,
}

/// The fitted preparation of one predictor.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PreparedColumn {
    /// The column it reads.
    pub name: String,
    /// Its kind in the training table.
    pub kind: Kind,
    /// How it is handed on.
    pub coding: Coding,
}

/// How one column is handed to the estimator.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "as")]
pub enum Coding {
    /// A quantity, or a date as days since 1970-01-01.
    Number {
        /// Stands in for a missing value: the median of training rows, by weight.
        fill: f64,
        /// Whether a second column says that the value was missing.
        flag: bool,
        /// Mean after filling.
        mean: f64,
        /// Standard deviation after filling; 1 for a constant.
        sd: f64,
    },
    /// A limited set of values.
    Levels {
        /// Values with an entry of their own, those that count most first; the
        /// first is the reference among indicators.
        levels: Vec<String>,
        /// Values seen in training but grouped as "other".
        grouped: Vec<String>,
        /// Whether missing values occurred in training.
        missing_seen: bool,
    },
}

/// Why a preparation cannot be fitted or replayed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PrepareError {
    /// The table lacks a column that the model uses.
    #[error("The column “{0}” is missing, and the model needs it.")]
    MissingColumn(String),
    /// A column is of another kind than in training.
    #[error("“{name}” was a {trained} when the model was fitted and is a {found} here.")]
    OtherKind {
        /// The column.
        name: String,
        /// Kind in training.
        trained: Kind,
        /// Kind in this table.
        found: Kind,
    },
    /// A step cannot be taken on this table.
    #[error("Step {number} ({words}): {reason}")]
    Step {
        /// Its number, from 1.
        number: usize,
        /// What it does.
        words: String,
        /// Why it cannot.
        reason: String,
    },
    /// A case weight below 0.
    #[error("“{column}” is a fit weight, and {value} is not a weight; a weight is 0 or more.")]
    Weight {
        /// The column.
        column: String,
        /// The value.
        value: String,
    },
    /// A fitted step cannot be replayed.
    #[error("{0}")]
    Replay(String),
    /// No predictor is left.
    #[error("The model has no predictors. Give at least one column the role “predictor”.")]
    NoPredictors,
}

/// The rows that are learned from, and what happened in them.
#[derive(Debug, Clone, Copy)]
pub struct TrainingRows<'a> {
    /// Positions in the table.
    pub rows: &'a [usize],
    /// `event[i]` says what happened in `rows[i]`.
    pub event: &'a [bool],
    /// How much each row counts in fillings, scales and the order of levels;
    /// every row once without them. Steps learn from the rows as they stand.
    pub weight: Option<&'a [f64]>,
}

impl TrainingRows<'_> {
    fn weight(&self, at: usize) -> f64 {
        self.weight.map_or(1.0, |weight| weight[at])
    }
}

impl Preparation {
    /// Learns what the steps need, fillings, scales and levels from the rows
    /// given and from no others; gives those rows prepared too. They are not
    /// what [`Preparation::apply`] would make of them where a step learned from
    /// the outcome: such a step is fitted anew without a row before it is
    /// applied to it.
    ///
    /// # Errors
    /// [`PrepareError`] if a predictor is missing, there is none, or a step
    /// cannot be taken.
    pub fn fit(
        table: &Table,
        steps: &[PreparationStep],
        predictors: &[String],
        training: &TrainingRows,
        encoding: Encoding,
    ) -> Result<(Self, Design), PrepareError> {
        let rows = training.rows;
        if predictors.is_empty() {
            return Err(PrepareError::NoPredictors);
        }
        let (actions, read) = steps::needed(steps, predictors, &table.kinds())?;
        let inputs =
            table.columns().iter().filter(|c| read.contains(&c.name)).map(|c| ModelInput::of(c, rows)).collect();
        let (fitted, stepped) = FittedStep::fit_all(&actions, table, training)?;
        let table = stepped.as_ref();
        let columns = predictors
            .par_iter()
            .map(|name| {
                let column = table.column(name).ok_or_else(|| PrepareError::MissingColumn(name.clone()))?;
                let coding = match &column.values {
                    ColumnValues::Words(_) => fit_levels(column, training, encoding),
                    _ => fit_number(column, training),
                };
                Ok(PreparedColumn { name: name.clone(), kind: column.kind, coding })
            })
            .collect::<Result<_, PrepareError>>()?;
        let preparation = Self { inputs, steps: fitted, encoding, columns };
        let design = preparation.coded(table, rows)?;
        Ok((preparation, design))
    }

    /// What the code of a feature of levels stands for.
    pub fn level_of(&self, column: &str, code: u32) -> &str {
        let levels = self.columns.iter().find(|c| c.name == column).map(|c| &c.coding);
        match (code, levels) {
            (Feature::MISSING, _) => "missing",
            (Feature::UNKNOWN, _) => "another value",
            (code, Some(Coding::Levels { levels, .. })) => levels.get(code as usize).map_or("", String::as_str),
            _ => "",
        }
    }

    /// The table after the steps, before anything is coded for an estimator.
    ///
    /// # Errors
    /// [`PrepareError`] if a column is missing or of another kind.
    pub fn stepped<'a>(&self, table: &'a Table) -> Result<std::borrow::Cow<'a, Table>, PrepareError> {
        let mut stepped = std::borrow::Cow::Borrowed(table);
        for step in &self.steps {
            stepped = std::borrow::Cow::Owned(step.apply(&stepped)?);
        }
        Ok(stepped)
    }

    /// Applies what was learned to the rows of any table with the same columns.
    ///
    /// # Errors
    /// [`PrepareError`] if a column is missing or of another kind.
    pub fn apply(&self, table: &Table, rows: &[usize]) -> Result<Design, PrepareError> {
        if !self.steps.is_empty() {
            let block = self.stepped(&table.take(rows))?.into_owned();
            let all: Vec<usize> = (0..rows.len()).collect();
            return self.coded(&block, &all);
        }
        self.coded(table, rows)
    }

    /// Codes rows of a table on which the steps were taken.
    fn coded(&self, table: &Table, rows: &[usize]) -> Result<Design, PrepareError> {
        let features = self
            .columns
            .par_iter()
            .map(|prepared| {
                let column =
                    table.column(&prepared.name).ok_or_else(|| PrepareError::MissingColumn(prepared.name.clone()))?;
                if column.kind.storage() != prepared.kind.storage() {
                    return Err(PrepareError::OtherKind {
                        name: prepared.name.clone(),
                        trained: prepared.kind,
                        found: column.kind,
                    });
                }
                Ok(prepared.features(column, rows, self.encoding))
            })
            .collect::<Result<Vec<Vec<Feature>>, PrepareError>>()?;
        Ok(Design::new(features.into_iter().flatten().collect(), rows.len()))
    }
}

fn fit_number(column: &Column, training: &TrainingRows) -> Coding {
    let rows = training.rows.iter().enumerate();
    let mut filled: Vec<(f64, f64)> =
        rows.filter_map(|(at, &row)| Some((column.number(row)?, training.weight(at)))).collect();
    filled.sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.total_cmp(&b.1)));
    let flag = filled.len() < training.rows.len();
    let fill = middle(&filled).unwrap_or(0.0);
    let total: f64 = (0..training.rows.len()).map(|at| training.weight(at)).sum();
    let missing = (total - filled.iter().map(|(_, w)| w).sum::<f64>()).max(0.0);
    let total = if total > 0.0 { total } else { 1.0 };
    let mean = (filled.iter().map(|(x, w)| w * x).sum::<f64>() + missing * fill) / total;
    let squares = filled.iter().map(|(x, w)| w * (x - mean).powi(2)).sum::<f64>() + missing * (fill - mean).powi(2);
    let sd = (squares / total).sqrt();
    Coding::Number { fill, flag, mean, sd: if sd > 0.0 { sd } else { 1.0 } }
}

/// The value in the middle of what all sorted values weigh together, halfway
/// to the next one where half of the weight ends on a value.
fn middle(sorted: &[(f64, f64)]) -> Option<f64> {
    let half = sorted.iter().map(|(_, weight)| weight).sum::<f64>() / 2.0;
    let mut so_far = 0.0;
    let at = sorted.iter().position(|(_, weight)| {
        so_far += weight;
        so_far >= half && so_far > 0.0
    })?;
    let value = sorted[at].0;
    let next = sorted[at + 1..].iter().find(|(_, weight)| *weight > 0.0);
    Some(if so_far > half { value } else { next.map_or(value, |next| value + (next.0 - value) / 2.0) })
}

fn fit_levels(column: &Column, training: &TrainingRows, encoding: Encoding) -> Coding {
    let mut missing_seen = false;
    let mut ranked: Vec<(&str, u64, f64)> = Vec::new();
    if let ColumnValues::Words(words) = &column.values {
        let mut by_code = vec![(0u64, 0.0); words.level_count()];
        for (at, &row) in training.rows.iter().enumerate() {
            match words.code(row) {
                Some(code) => {
                    by_code[code].0 += 1;
                    by_code[code].1 += training.weight(at);
                }
                None => missing_seen = true,
            }
        }
        let seen = words.levels().zip(by_code).filter(|(_, (rows, _))| *rows > 0);
        ranked = seen.map(|(level, (rows, weight))| (level, rows, weight)).collect();
    }
    ranked.sort_by(|a, b| b.2.total_cmp(&a.2).then_with(|| a.0.cmp(b.0)));
    let own = match encoding {
        Encoding::Native | Encoding::Standardised => ranked.len(),
        Encoding::Indicators => {
            // Frequent ones first; either part stays in order of weight.
            ranked.sort_by_key(|(_, rows, _)| *rows < RARE);
            let frequent = ranked.iter().filter(|(_, rows, _)| *rows >= RARE).count();
            frequent.clamp(1, MOST_INDICATORS).min(ranked.len())
        }
    };
    let mut levels: Vec<String> = ranked.into_iter().map(|(level, ..)| level.to_owned()).collect();
    let grouped = levels.split_off(own);
    Coding::Levels { levels, grouped, missing_seen }
}

impl PreparedColumn {
    fn features(&self, column: &Column, rows: &[usize], encoding: Encoding) -> Vec<Feature> {
        match (&self.coding, encoding) {
            (Coding::Number { .. }, Encoding::Native) => {
                let values = rows.iter().map(|&r| column.number(r).unwrap_or(f64::NAN)).collect();
                vec![Feature::number(&self.name, &self.name, values)]
            }
            (&Coding::Number { fill, flag, mean, sd }, Encoding::Indicators | Encoding::Standardised) => {
                let scale = |x: f64| (x - mean) / sd;
                let values = rows.iter().map(|&r| scale(column.number(r).unwrap_or(fill))).collect();
                let mut features = vec![Feature::number(&self.name, &self.name, values)];
                if flag {
                    let values = rows.iter().map(|&r| f64::from(u8::from(column.number(r).is_none()))).collect();
                    features.push(Feature::number(&format!("{} is missing", self.name), &self.name, values));
                }
                features
            }
            (Coding::Levels { levels, .. }, Encoding::Native | Encoding::Standardised) => {
                let codes = self.codes(column, rows, levels);
                vec![Feature::levels(&self.name, &self.name, levels.len(), codes)]
            }
            (Coding::Levels { levels, grouped, missing_seen }, Encoding::Indicators) => {
                let codes = self.codes(column, rows, levels);
                let indicator = |wanted: u32| codes.iter().map(|&c| f64::from(u8::from(c == wanted))).collect();
                let mut features: Vec<Feature> = levels
                    .iter()
                    .enumerate()
                    .skip(1)
                    .map(|(code, level)| {
                        Feature::number(&format!("{} is {level}", self.name), &self.name, indicator(code as u32))
                    })
                    .collect();
                if !grouped.is_empty() {
                    let name = format!("{} is another value", self.name);
                    features.push(Feature::number(&name, &self.name, indicator(Feature::UNKNOWN)));
                }
                if *missing_seen {
                    let name = format!("{} is missing", self.name);
                    features.push(Feature::number(&name, &self.name, indicator(Feature::MISSING)));
                }
                features
            }
        }
    }

    fn codes(&self, column: &Column, rows: &[usize], levels: &[String]) -> Vec<u32> {
        let ColumnValues::Words(words) = &column.values else { return vec![Feature::MISSING; rows.len()] };
        let position: std::collections::HashMap<&str, u32> =
            levels.iter().enumerate().map(|(i, l)| (l.as_str(), i as u32)).collect();
        let translate: Vec<u32> =
            words.levels().map(|l| position.get(l).copied().unwrap_or(Feature::UNKNOWN)).collect();
        rows.iter().map(|&r| words.code(r).map_or(Feature::MISSING, |c| translate[c])).collect()
    }
}
