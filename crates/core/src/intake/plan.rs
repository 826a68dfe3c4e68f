//! What was found in a file, and how it will be read.

use serde::{Deserialize, Serialize};

use super::read::Misfits;
use super::{DateOrder, DecimalMark, Format, ValueFormat};
use crate::Kind;
use crate::formulas::neutralised;
use crate::table::Storage;

/// How one column will be read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ColumnPlan {
    /// Name in the table; distinct within it.
    pub name: String,
    /// What its values mean.
    pub kind: Kind,
    /// How they are written.
    pub format: ValueFormat,
    /// Why this kind, in a few words.
    pub reason: String,
}

/// How a file will be read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Plan {
    /// How the file holds its rows.
    pub format: Format,
    /// One entry per column, in the order of the file.
    pub columns: Vec<ColumnPlan>,
}

impl ColumnPlan {
    /// Whether its days might as well be read month first: every one of them
    /// reads both ways.
    pub fn is_ambiguous(&self) -> bool {
        self.kind == Kind::Date && self.reason.contains("other way round")
    }
}

impl Plan {
    /// Reads the column of that name, if there is one, as another kind.
    ///
    /// The way of writing found in the file is kept where it suits the kind.
    pub fn read_as(&mut self, name: &str, kind: Kind) {
        let comma = self.columns.iter().any(|c| c.format == ValueFormat::Number { mark: DecimalMark::Comma });
        let Some(column) = self.columns.iter_mut().find(|c| c.name == name) else { return };
        let mark = if comma { DecimalMark::Comma } else { DecimalMark::Point };
        column.kind = kind;
        column.format = match (kind.storage(), column.format) {
            (Storage::Words, _) => ValueFormat::Text,
            (Storage::Numbers, found @ ValueFormat::Number { .. })
            | (Storage::Dates, found @ ValueFormat::Date { .. }) => found,
            (Storage::Numbers, _) => ValueFormat::Number { mark },
            (Storage::Dates, _) => ValueFormat::Date { order: DateOrder::YearMonthDay },
        };
        column.reason = "chosen".into();
    }
}

/// What does not fit about a row or a cell.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MisfitKind {
    /// The row has another number of fields than the first line; it is rejected.
    Ragged {
        /// Fields in the row.
        found: usize,
        /// Names in the first line.
        expected: usize,
    },
    /// A line that is JSON, but no object.
    NoObject,
    /// A line that is no JSON.
    NoJson {
        /// What the parser found wrong, and where in the line.
        what: String,
    },
    /// A quote opened in this row and never closed; the rest of the file is in it.
    OpenQuote,
    /// The row holds a byte that text must not hold; it is rejected.
    NulByte,
    /// The cell does not read as its column's kind; it counts as missing.
    Cell {
        /// The column.
        column: String,
        /// Its kind.
        kind: Kind,
        /// What stood there, cut to 80 characters.
        value: String,
    },
}

/// One thing that does not fit, and where.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Misfit {
    /// Line of the file on which the row begins, counted from 1.
    pub line: u64,
    /// What is wrong.
    pub kind: MisfitKind,
    /// The row as it stood, cut to 2 000 characters; empty for a cell.
    pub row: String,
}

impl Misfit {
    /// The misfit in a sentence, without its line.
    pub fn sentence(&self) -> String {
        match &self.kind {
            MisfitKind::Ragged { found, expected } => {
                format!("{found} fields where the first line has {expected}; the row is left out")
            }
            MisfitKind::NoObject => "is not a JSON object; the row is left out".into(),
            MisfitKind::NoJson { what } => format!("is not JSON: {what}; the row is left out"),
            MisfitKind::OpenQuote => {
                "a quote opens here and never closes, so that the rest of the file is inside it; left out".into()
            }
            MisfitKind::NulByte => "holds a NUL byte, which text cannot hold; the row is left out".into(),
            MisfitKind::Cell { column, kind, value } => {
                format!("{column}: “{value}” is not a {kind}; taken as missing")
            }
        }
    }

    /// Whether the whole row is left out, rather than one cell.
    pub fn rejects_row(&self) -> bool {
        !matches!(self.kind, MisfitKind::Cell { .. })
    }
}

/// What reading a file once, from end to end, has shown.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Scan {
    /// How to read it.
    pub plan: Plan,
    /// Rows that fit.
    pub rows: u64,
    /// Rows that are rejected.
    pub rejected: u64,
    /// Cells that will be taken as missing.
    pub misfit_cells: u64,
    /// The first misfits, in order of line.
    pub misfits: Vec<Misfit>,
    /// The first rows as written, at most 20.
    pub first_rows: Vec<Vec<String>>,
    /// What the reader should know, in sentences: renamed columns, doubts.
    pub notes: Vec<String>,
}

impl Scan {
    /// What did not fit, as delimited text: where, why, and the row as it stood.
    pub fn rejects_csv(&self) -> String {
        let field = |text: &str| format!("\"{}\"", neutralised(text).replace('"', "\"\""));
        let mut out = format!("{},reason,row\r\n", self.plan.format.place());
        for misfit in &self.misfits {
            out += &format!("{},{},{}\r\n", misfit.line, field(&misfit.sentence()), field(&misfit.row));
        }
        out
    }

    /// Puts in what a reading with the plan found not to fit.
    pub fn count(&mut self, misfits: Misfits) {
        (self.rejected, self.misfit_cells, self.misfits) = (misfits.rejected, misfits.cells, misfits.kept);
    }
}
