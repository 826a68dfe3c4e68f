//! The steps of a preparation as the analyst chose them.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::{Encoder, PrepareError, SampleSize};
use pronoia_data::expression::{Expression, ExpressionError, Type};
use pronoia_data::{Kind, Table};

/// A step, and whether it is switched off for now.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PreparationStep {
    /// What it does.
    #[serde(flatten)]
    pub action: StepAction,
    /// Whether it is passed over.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub off: bool,
}

/// What a step does.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "do")]
pub enum StepAction {
    /// Keeps the customers for whom a condition is true; the others take no
    /// part in the study.
    Filter {
        /// An SQL condition.
        condition: String,
    },
    /// Lets only some of the customers take part, drawn by lot with the event
    /// rate as it is.
    Sample {
        /// How many.
        of: SampleSize,
    },
    /// Makes a column.
    Derive {
        /// Its name.
        name: String,
        /// An SQL expression.
        expression: String,
    },
    /// Puts a value where one is missing.
    Fill {
        /// The column.
        column: String,
        /// What is put there.
        with: Imputation,
        /// Whether a column “… was missing” is made beside it.
        #[serde(default)]
        flag: bool,
    },
    /// Draws the extreme values of a number in to quantiles of the training rows.
    Cap {
        /// The column.
        column: String,
        /// Share of rows drawn in on either side, above 0 and below 0.5.
        share: f64,
    },
    /// Replaces a number x by ln(1 + |x|) with the sign of x.
    Log {
        /// The column.
        column: String,
    },
    /// Makes a skewed number more even by the power transform of Yeo and
    /// Johnson (2000), its exponent fitted on training rows.
    Power {
        /// The column.
        column: String,
    },
    /// Reads a number as the name of something.
    AsCode {
        /// The column.
        column: String,
    },
    /// Turns a category into a number that is learned from the outcome.
    Encode {
        /// The column.
        column: String,
        /// What it is turned into.
        encoder: Encoder,
    },
    /// Turns a category into its place in an order; a value that is not in it
    /// is missing.
    Ordered {
        /// The column.
        column: String,
        /// The values, the least first.
        order: Vec<String>,
    },
    /// Counts a number in standard deviations from the mean of training rows.
    Standardise {
        /// The column.
        column: String,
    },
    /// Cuts a number into bands of about equally many training rows.
    Bands {
        /// The column.
        column: String,
        /// How many.
        bands: usize,
    },
    /// Makes one value of all that fewer training rows have.
    GroupRare {
        /// The column.
        column: String,
        /// Rows that a value needs to stay.
        fewest: u64,
    },
}

/// What stands in for a missing value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Imputation {
    /// The median of the training rows.
    Median,
    /// Their mean.
    Mean,
    /// Their most frequent value.
    MostFrequent,
    /// A value that was chosen.
    Value(String),
}

/// Why a step cannot be taken.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum StepError {
    /// Its expression is wrong.
    #[error(transparent)]
    Expression(#[from] ExpressionError),
    /// It reads a column that is not there.
    #[error("There is no column “{0}” here any more. Switch the step off, remove it, or restore the column before it.")]
    NoColumn(String),
    /// It does not suit the column's kind.
    #[error("“{column}” is of the kind {kind}; this step is for {wanted}.")]
    Kind {
        /// The column.
        column: String,
        /// Its kind.
        kind: Kind,
        /// What it is for.
        wanted: &'static str,
    },
    /// It makes a column that is there already.
    #[error("There is a column “{0}” already; give the new one another name.")]
    NameTaken(String),
    /// A field that makes no sense.
    #[error("{0}")]
    Field(String),
}

/// The longest name of a derived column, in characters.
const LONGEST_NAME: usize = 60;

impl PreparationStep {
    /// Why the step at this place, counted from 0, cannot be taken.
    fn failed(&self, at: usize, reason: String) -> PrepareError {
        PrepareError::Step { number: at + 1, words: self.action.words(), reason }
    }
}

impl StepAction {
    /// The step in a few words.
    pub fn words(&self) -> String {
        match self {
            Self::Filter { condition } => format!("keep customers with {condition}"),
            Self::Sample { of } => of.words(),
            Self::Derive { name, expression } => format!("{name} = {expression}"),
            Self::Fill { column, with, flag } => {
                let with = match with {
                    Imputation::Median => "the median".into(),
                    Imputation::Mean => "the mean".into(),
                    Imputation::MostFrequent => "the most frequent value".into(),
                    Imputation::Value(value) => format!("“{value}”"),
                };
                let flag = if *flag { ", with a missing indicator" } else { "" };
                format!("impute {column} with {with}{flag}")
            }
            Self::Cap { column, share } => {
                format!("cap {column} at {} % on either side", share * 100.0)
            }
            Self::Log { column } => format!("logarithm of {column}"),
            Self::Power { column } => format!("power transform of {column}"),
            Self::AsCode { column } => format!("read {column} as a code"),
            Self::Encode { column, encoder: Encoder::TargetMean } => {
                format!("encode {column} as its event rate (target encoding)")
            }
            Self::Encode { column, encoder: Encoder::WeightOfEvidence } => {
                format!("encode {column} as weight of evidence (WoE)")
            }
            Self::Ordered { column, order } => format!("encode {column} by rank: {}", order.join(" < ")),
            Self::Standardise { column } => format!("standardise {column}"),
            Self::Bands { column, bands } => format!("bin {column} into {bands} bins"),
            Self::GroupRare { column, fewest } => format!("group rare values of {column} (fewer than {fewest} rows)"),
        }
    }

    /// The columns that it makes, beside those it changes.
    pub fn makes(&self) -> Option<String> {
        match self {
            Self::Derive { name, .. } => Some(name.clone()),
            Self::Fill { column, flag: true, .. } => Some(format!("{column} was missing")),
            _ => None,
        }
    }

    /// The column that it changes in place.
    pub fn changes(&self) -> Option<&str> {
        match self {
            Self::Filter { .. } | Self::Sample { .. } | Self::Derive { .. } => None,
            Self::Fill { column, .. }
            | Self::Cap { column, .. }
            | Self::Log { column }
            | Self::Power { column }
            | Self::AsCode { column }
            | Self::Encode { column, .. }
            | Self::Ordered { column, .. }
            | Self::Standardise { column }
            | Self::Bands { column, .. }
            | Self::GroupRare { column, .. } => Some(column),
        }
    }

    /// Checks the step against the columns that it meets, and changes them as
    /// it does; an error leaves them as they were. Gives the columns that it reads.
    ///
    /// # Errors
    /// [`StepError`].
    pub fn check(&self, columns: &mut Vec<(String, Kind)>) -> Result<Vec<String>, StepError> {
        let types = |columns: &[(String, Kind)]| -> Vec<(String, Type)> {
            columns.iter().map(|(name, kind)| (name.clone(), Type::of(*kind))).collect()
        };
        let read = |e: &Expression| e.inputs().map(str::to_owned).collect::<Vec<_>>();
        let make = |columns: &mut Vec<(String, Kind)>, name: &str, kind: Kind| {
            if columns.iter().any(|c| c.0 == name) {
                return Err(StepError::NameTaken(name.to_owned()));
            }
            columns.push((name.to_owned(), kind));
            Ok(())
        };
        let place = |columns: &[(String, Kind)], name: &str| {
            columns.iter().position(|c| c.0 == *name).ok_or_else(|| StepError::NoColumn(name.to_owned()))
        };
        let number = |columns: &[(String, Kind)], name: &str| {
            let at = place(columns, name)?;
            match columns[at].1 {
                Kind::Number => Ok(at),
                kind => Err(StepError::Kind { column: name.to_owned(), kind, wanted: "numbers" }),
            }
        };
        match self {
            Self::Filter { condition } => Ok(read(&Expression::check_condition(condition, &types(columns))?)),
            Self::Sample { of } => of.check().map(|()| Vec::new()).map_err(StepError::Field),
            Self::Derive { name, expression } => {
                if name.trim().is_empty() || name.chars().count() > LONGEST_NAME || name.chars().any(char::is_control) {
                    return Err(StepError::Field(format!(
                        "Give the new column a name of at most {LONGEST_NAME} letters."
                    )));
                }
                let checked = Expression::check(expression, &types(columns))?;
                make(columns, name, checked.kind())?;
                Ok(read(&checked))
            }
            Self::Fill { column, with, flag } => {
                let at = place(columns, column)?;
                let kind = columns[at].1;
                match with {
                    Imputation::Median | Imputation::Mean => {
                        number(columns, column)?;
                    }
                    Imputation::Value(value) if super::typed_value::read_as(value, kind).is_none() => {
                        return Err(StepError::Field(format!("“{value}” is not a {kind}, which “{column}” is.")));
                    }
                    Imputation::MostFrequent | Imputation::Value(_) => {}
                }
                if *flag {
                    make(columns, &format!("{column} was missing"), Kind::YesNo)?;
                }
                Ok(vec![column.clone()])
            }
            Self::Cap { column, share } => {
                number(columns, column)?;
                if !(*share > 0.0 && *share < 0.5) {
                    return Err(StepError::Field("The share on either side is above 0 and below 50 %.".into()));
                }
                Ok(vec![column.clone()])
            }
            Self::Log { column } | Self::Power { column } | Self::Standardise { column } => {
                number(columns, column)?;
                Ok(vec![column.clone()])
            }
            Self::AsCode { column } => {
                let at = number(columns, column)?;
                columns[at].1 = Kind::Code;
                Ok(vec![column.clone()])
            }
            Self::Encode { column, .. } | Self::Ordered { column, .. } => {
                let at = place(columns, column)?;
                let kind = columns[at].1;
                if matches!(kind, Kind::Number | Kind::Date) {
                    let wanted = "categories; bin a number first";
                    return Err(StepError::Kind { column: column.clone(), kind, wanted });
                }
                if let Self::Ordered { order, .. } = self {
                    let mut different: Vec<&String> = order.iter().collect();
                    different.sort();
                    different.dedup();
                    if order.len() < 2 || different.len() < order.len() {
                        return Err(StepError::Field(
                            "Name at least two different values in their order, the least first, with commas between."
                                .into(),
                        ));
                    }
                }
                columns[at].1 = Kind::Number;
                Ok(vec![column.clone()])
            }
            Self::Bands { column, bands } => {
                let at = number(columns, column)?;
                if !(2..=50).contains(bands) {
                    return Err(StepError::Field("Choose 2 to 50 bins.".into()));
                }
                columns[at].1 = Kind::Ordered;
                Ok(vec![column.clone()])
            }
            Self::GroupRare { column, .. } => {
                let at = place(columns, column)?;
                match columns[at].1 {
                    Kind::Number | Kind::Date => {
                        Err(StepError::Kind { column: column.clone(), kind: columns[at].1, wanted: "categories" })
                    }
                    _ => Ok(vec![column.clone()]),
                }
            }
        }
    }
}

/// The columns that there are after the steps, passing over those that are
/// switched off or cannot be taken.
pub fn columns_after(steps: &[PreparationStep], columns: &[(String, Kind)]) -> Vec<(String, Kind)> {
    let mut known = columns.to_vec();
    for step in steps.iter().filter(|s| !s.off) {
        // One that cannot be taken leaves the columns as they were.
        let _ = step.action.check(&mut known);
    }
    known
}

/// The steps that are not switched off, each with the columns that it reads.
///
/// # Errors
/// [`PrepareError::Step`] for the first step that cannot be taken.
pub fn checked<'a>(
    steps: &'a [PreparationStep],
    columns: &[(String, Kind)],
) -> Result<Vec<(&'a StepAction, Vec<String>)>, PrepareError> {
    let mut known = columns.to_vec();
    let taken = steps.iter().enumerate().filter(|(_, step)| !step.off);
    taken
        .map(|(at, step)| {
            let reads = step.action.check(&mut known).map_err(|e| step.failed(at, e.to_string()))?;
            Ok((&step.action, reads))
        })
        .collect()
}

/// The steps that are needed for these predictors, in order, and the columns
/// of the table that they and the predictors read. Filters are not among them.
///
/// # Errors
/// [`PrepareError::Step`] for the first step that cannot be taken.
pub fn needed(
    steps: &[PreparationStep],
    predictors: &[String],
    columns: &[(String, Kind)],
) -> Result<(Vec<StepAction>, Vec<String>), PrepareError> {
    let reads = checked(steps, columns)?;
    let mut wanted: Vec<String> = predictors.to_vec();
    let mut kept = Vec::new();
    for (action, read) in reads.into_iter().rev() {
        let made = action.makes().is_some_and(|name| wanted.contains(&name));
        let changed = action.changes().is_some_and(|name| wanted.iter().any(|w| w == name));
        if made || changed {
            wanted.extend(read);
            kept.push(action.clone());
        }
    }
    kept.reverse();
    let raw = columns.iter().map(|c| &c.0).filter(|name| wanted.contains(name)).cloned().collect();
    Ok((kept, raw))
}

/// The table with every derived column that it has all it needs for, and which
/// customers the filters keep: all of them without a filter.
///
/// Filters look at the columns of the table and at derived ones, not at what
/// steps that learn from training rows have made of them.
///
/// # Errors
/// [`PrepareError::Step`].
pub fn population(steps: &[PreparationStep], table: &Table) -> Result<(Table, Vec<bool>), PrepareError> {
    let mut kept = vec![true; table.rows()];
    let mut so_far = table.clone();
    for (at, step) in steps.iter().enumerate().filter(|(_, s)| !s.off) {
        let failed = |reason: String| step.failed(at, reason);
        let types = Expression::columns_of(&so_far);
        match &step.action {
            StepAction::Filter { condition } => {
                let condition = Expression::check_condition(condition, &types).map_err(|e| failed(e.to_string()))?;
                let holds = condition.holds(&so_far).map_err(failed)?;
                kept.iter_mut().zip(holds).for_each(|(kept, holds)| *kept &= holds == Some(true));
            }
            StepAction::Derive { name, expression } => {
                // One that reads what a learning step made is of no use to a filter.
                if let Ok(expression) = Expression::check(expression, &types) {
                    let (column, _) = expression.column(name, &so_far).map_err(failed)?;
                    so_far = so_far.with(column);
                }
            }
            _ => {}
        }
    }
    Ok((so_far, kept))
}
