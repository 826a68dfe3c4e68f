//! What was found in a file, and how it will be read.

use serde::{Deserialize, Serialize};

use pronoia_data::value::{DateOrder, DecimalMark, ValueFormat};

use super::Format;
use super::misfit::{Misfit, Misfits};
use pronoia_data::Kind;
use pronoia_data::formulas::neutralised;
use pronoia_data::table::Storage;

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
pub struct ReadPlan {
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

impl ReadPlan {
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

/// What reading a file once, from end to end, has shown.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Scan {
    /// How to read it.
    pub plan: ReadPlan,
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
