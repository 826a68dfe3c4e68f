//! The forms in which a model is carried elsewhere.

use std::str::FromStr;

use super::exported_model::ExportedModel;
use super::formula::ModelFormula;
use super::refusal::Refusal;
use super::{json, onnx, pmml, sql};
use pronoia_data::expression::SqlDialect;

/// A form in which a model is carried elsewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ExportForm {
    /// Predictive Model Markup Language 4.4, an XML document.
    Pmml,
    /// Open Neural Network Exchange, a binary file.
    Onnx,
    /// A SELECT over a table of customers.
    Sql(SqlDialect),
    /// The definitions as a JSON document with a published schema.
    Json,
}

impl ExportForm {
    /// Every form, in the order in which pages offer them.
    pub const ALL: [ExportForm; 7] = [
        Self::Sql(SqlDialect::Standard),
        Self::Sql(SqlDialect::PostgreSql),
        Self::Sql(SqlDialect::DuckDb),
        Self::Sql(SqlDialect::Spark),
        Self::Pmml,
        Self::Onnx,
        Self::Json,
    ];

    /// The word for it in addresses and on the command line.
    pub fn word(self) -> &'static str {
        match self {
            Self::Pmml => "pmml",
            Self::Onnx => "onnx",
            Self::Json => "json",
            Self::Sql(SqlDialect::Standard) => "sql",
            Self::Sql(SqlDialect::PostgreSql) => "sql-postgresql",
            Self::Sql(SqlDialect::DuckDb) => "sql-duckdb",
            Self::Sql(SqlDialect::Spark) => "sql-spark",
        }
    }

    /// Its name.
    pub fn title(self) -> &'static str {
        match self {
            Self::Pmml => "PMML 4.4",
            Self::Onnx => "ONNX",
            Self::Json => "JSON",
            Self::Sql(SqlDialect::Standard) => "Standard SQL",
            Self::Sql(dialect) => dialect.title(),
        }
    }

    /// What it is for, in a sentence.
    pub fn about(self) -> &'static str {
        match self {
            Self::Pmml => {
                "An XML document that scoring engines of banks and insurers read (predictive model markup language)."
            }
            Self::Onnx => "A binary file that runtimes in most languages compute with, on a server or a phone.",
            Self::Json => "The definitions one by one, for your own software; its schema is published.",
            Self::Sql(SqlDialect::Standard) => {
                "A SELECT of nothing but the standard, for databases that keep to it. Slower where a database has its own."
            }
            Self::Sql(SqlDialect::PostgreSql) => "A SELECT that runs in the database where the customers are.",
            Self::Sql(SqlDialect::DuckDb) => "A SELECT over files or tables in a database that runs inside a program.",
            Self::Sql(SqlDialect::Spark) => "A SELECT that runs unchanged on a cluster of machines.",
        }
    }

    /// Ending of the file's name.
    pub fn ending(self) -> &'static str {
        match self {
            Self::Pmml => "pmml",
            Self::Onnx => "onnx",
            Self::Json => "json",
            Self::Sql(_) => "sql",
        }
    }

    /// Media type of the file.
    pub fn media_type(self) -> &'static str {
        match self {
            Self::Pmml => "application/xml",
            Self::Onnx => "application/octet-stream",
            Self::Json => "application/json",
            Self::Sql(_) => "application/sql",
        }
    }

    /// Writes a model.
    ///
    /// # Errors
    /// [`Refusal`] if the form cannot carry it.
    pub fn write(self, formula: &ModelFormula) -> Result<ExportedModel, Refusal> {
        match self {
            Self::Pmml => pmml::write(formula),
            Self::Onnx => onnx::write(formula),
            Self::Json => json::write(formula),
            Self::Sql(dialect) => sql::write(formula, dialect),
        }
    }
}

impl FromStr for ExportForm {
    type Err = String;

    fn from_str(word: &str) -> Result<Self, String> {
        let known = Self::ALL.map(Self::word).join(", ");
        Self::ALL
            .into_iter()
            .find(|form| form.word() == word)
            .ok_or_else(|| format!("There is no form “{word}”; there are {known}."))
    }
}
