//! Rows and cells of a file that do not fit.

use pronoia_data::Kind;
use serde::{Deserialize, Serialize};

use super::MISFITS_KEPT;

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
                format!("{found} fields where the first line has {expected}; the row is rejected")
            }
            MisfitKind::NoObject => "is not a JSON object; the row is rejected".into(),
            MisfitKind::NoJson { what } => format!("is not JSON: {what}; the row is rejected"),
            MisfitKind::OpenQuote => {
                "a quote opens here and never closes, so that the rest of the file is inside it; rejected".into()
            }
            MisfitKind::NulByte => "holds a NUL byte, which text cannot hold; the row is rejected".into(),
            MisfitKind::Cell { column, kind, value } => {
                format!("{column}: “{value}” is not a {kind}; read as missing")
            }
        }
    }

    /// Whether the whole row is left out, rather than one cell.
    pub fn rejects_row(&self) -> bool {
        !matches!(self.kind, MisfitKind::Cell { .. })
    }
}

/// What did not fit: all counted, the first kept with their place.
#[derive(Debug, Default)]
pub struct Misfits {
    /// The first ones, in the order of the file.
    pub kept: Vec<Misfit>,
    /// Rows left out.
    pub rejected: u64,
    /// Cells taken as missing.
    pub cells: u64,
}

impl Misfits {
    /// Counts rows that are left out.
    pub(super) fn reject(&mut self, rows: &[Misfit]) {
        self.rejected += rows.len() as u64;
        let room = MISFITS_KEPT - self.kept.len();
        self.kept.extend(rows.iter().take(room).cloned());
    }
}
