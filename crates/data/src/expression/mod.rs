//! Standard SQL expressions over the columns of a customer: checked, computed
//! for a million rows or one, and written out again as SQL.
//!
//! The logic of missing values is SQL's: what is computed from a missing value
//! is missing, and a condition is true, false or unknown. What has no value,
//! such as a division by zero, is missing too, and counted.

mod check;
mod evaluate;
mod functions;
mod parse;
mod run;
mod tree;
mod values;
mod write;

use serde::{Deserialize, Serialize};
use thiserror::Error;

pub use evaluate::Evaluated;
pub use evaluate::value_of;
pub use tree::{Arithmetic, Comparison, ExpressionNode, Function};
pub use values::Vector;
pub use write::SqlDialect;
pub use write::write;

use crate::{Column, Kind, Table};

/// The longest expression, in characters.
pub const LONGEST: usize = 4_000;

/// How deep an expression may nest.
pub const DEEPEST: usize = 40;

/// What kind of value an expression has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Type {
    /// A quantity, in double precision.
    Number,
    /// Letters.
    Text,
    /// A calendar day.
    Day,
    /// True or false.
    Truth,
}

impl Type {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Number => "a number",
            Self::Text => "text",
            Self::Day => "a date",
            Self::Truth => "true or false",
        }
    }

    /// The type of a column of this kind.
    pub fn of(kind: Kind) -> Self {
        match kind {
            Kind::Number => Self::Number,
            Kind::Date => Self::Day,
            _ => Self::Text,
        }
    }
}

/// What is wrong with an expression, and where.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{message}")]
pub struct ExpressionError {
    /// What is wrong and what to do, in a sentence.
    pub message: String,
    /// First character of the offending part, counted from 0.
    pub from: usize,
    /// The character after its last.
    pub to: usize,
}

/// A checked expression.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "StoredExpression", into = "StoredExpression")]
pub struct Expression {
    source: String,
    inputs: Vec<(String, Type)>,
    node: ExpressionNode,
    result: Type,
}

/// An expression as it is stored: as it was typed, with the columns it was checked against.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct StoredExpression {
    sql: String,
    inputs: Vec<(String, Type)>,
}

impl From<Expression> for StoredExpression {
    fn from(e: Expression) -> Self {
        Self { sql: e.source, inputs: e.inputs }
    }
}

impl TryFrom<StoredExpression> for Expression {
    type Error = ExpressionError;

    fn try_from(written: StoredExpression) -> Result<Self, ExpressionError> {
        Self::check(&written.sql, &written.inputs)
    }
}

/// The name of a column as it stands in an expression: in double quotes unless
/// it is plain letters, digits and underscores, and no word of SQL.
pub fn name_of(column: &str) -> String {
    let plain = column.starts_with(|c: char| c.is_ascii_lowercase() || c == '_')
        && column.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
    let keyword = sqlparser::keywords::ALL_KEYWORDS.contains(&column.to_uppercase().as_str());
    if plain && !keyword { column.to_owned() } else { format!("\"{}\"", column.replace('"', "\"\"")) }
}

impl Expression {
    /// Parses an expression and checks it against the columns there are.
    ///
    /// Names are matched as they stand; failing that, without regard to case if
    /// that leaves no doubt.
    ///
    /// # Errors
    /// [`ExpressionError`] with the place of the first thing that is wrong.
    pub fn check(sql: &str, columns: &[(String, Type)]) -> Result<Self, ExpressionError> {
        let parsed = parse::parse(sql)?;
        let mut checker = check::Checker::new(sql, columns);
        let (node, result) = checker.check(&parsed)?;
        Ok(Self { source: sql.to_owned(), inputs: checker.into_inputs(), node, result })
    }

    /// As [`Expression::check`], for a condition: something true or false.
    ///
    /// # Errors
    /// [`ExpressionError`].
    pub fn check_condition(sql: &str, columns: &[(String, Type)]) -> Result<Self, ExpressionError> {
        let checked = Self::check(sql, columns)?;
        if checked.result == Type::Truth {
            return Ok(checked);
        }
        let message = format!(
            "This gives {}; a condition has to be true or false. Compare it with something: fee > 100, plan = 'Basic'.",
            checked.result.word()
        );
        Err(ExpressionError { message, from: 0, to: sql.chars().count() })
    }

    /// The columns of a table as an expression sees them.
    pub fn columns_of(table: &Table) -> Vec<(String, Type)> {
        table.columns().iter().map(|c| (c.name.clone(), Type::of(c.kind))).collect()
    }

    /// As it was typed.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// What kind of value it has.
    pub fn result(&self) -> Type {
        self.result
    }

    /// The columns that it reads, each once.
    pub fn inputs(&self) -> impl Iterator<Item = &str> {
        self.inputs.iter().map(|(name, _)| name.as_str())
    }

    /// Computes it for every row.
    ///
    /// # Errors
    /// A sentence if a column that it reads is not there, or of another kind.
    pub fn evaluate(&self, table: &Table) -> Result<Evaluated, String> {
        evaluate::evaluate(&self.node, &self.inputs, table)
    }

    /// Whether a condition holds, row by row; none where something that it needs is
    /// missing.
    ///
    /// # Errors
    /// As [`Expression::evaluate`], or if it is no condition.
    pub fn holds(&self, table: &Table) -> Result<Vec<Option<bool>>, String> {
        match self.evaluate(table)?.values {
            Vector::Truth(truth) => Ok(truth.iter().collect()),
            _ => Err(format!("“{}” is neither true nor false.", self.source())),
        }
    }

    /// Computes it as a column of a table; also in how many rows it had no value
    /// although nothing was missing.
    ///
    /// # Errors
    /// As [`Expression::evaluate`].
    pub fn column(&self, name: &str, table: &Table) -> Result<(Column, u64), String> {
        let evaluated = self.evaluate(table)?;
        Ok((evaluated.values.into_column(name), evaluated.undefined))
    }

    /// The kind of the column that it makes.
    pub fn kind(&self) -> Kind {
        match self.result {
            Type::Number => Kind::Number,
            Type::Text => Kind::Category,
            Type::Day => Kind::Date,
            Type::Truth => Kind::YesNo,
        }
    }

    /// What it is made of, with the columns that it reads, which it knows by their places.
    pub fn parts(&self) -> (&ExpressionNode, &[(String, Type)]) {
        (&self.node, &self.inputs)
    }

    /// The same expression in PostgreSQL's dialect, in which it gives the same
    /// values: what has no value is NULL there too rather than an error.
    pub fn to_sql(&self) -> String {
        self.written(SqlDialect::PostgreSql, &|name| SqlDialect::PostgreSql.name(name))
    }

    /// The same in a dialect; `name` says what stands there for a column.
    pub fn written(&self, dialect: SqlDialect, name: &dyn Fn(&str) -> String) -> String {
        write::write(&self.node, &|at| name(&self.inputs[at].0), dialect)
    }
}
