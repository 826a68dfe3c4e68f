//! Which kind of file it is, told from its bytes and never from its name.

use std::io::{Read, Seek};

use serde::{Deserialize, Serialize};

use super::archive::{self, Archive};
use super::block::RowSource;
use super::guard::guarded;
use super::{Dialect, IntakeError, columnar, delimited, json_lines, workbook};

/// Bytes from which the format is told.
pub(super) const HEAD: u64 = 256 * 1024;

/// How a file holds its rows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "format")]
pub enum Format {
    /// Delimited text.
    Delimited(Dialect),
    /// One JSON object a line; objects within are taken apart as `outer.inner`.
    JsonLines {
        /// Every key, in order of first appearance.
        keys: Vec<String>,
    },
    /// A sheet of an Office Open XML or OpenDocument workbook.
    Workbook {
        /// Whether it is an OpenDocument file.
        open_document: bool,
        /// The sheet that is read.
        sheet: String,
        /// Every sheet that is not hidden, in the order of the workbook.
        sheets: Vec<String>,
    },
    /// Parquet.
    Parquet,
    /// An Arrow file (also known as Feather, version 2).
    Arrow,
    /// An Arrow stream.
    ArrowStream,
}

impl Format {
    /// Finds the format of a file. `sheet` says which sheet of a workbook is wanted.
    ///
    /// # Errors
    /// [`IntakeError`] if it is empty, of no known format, or unsafe to unpack.
    pub(super) fn find(source: &mut (impl Read + Seek), sheet: Option<&str>) -> Result<Self, IntakeError> {
        let mut head = Vec::new();
        source.rewind()?;
        source.by_ref().take(HEAD).read_to_end(&mut head)?;
        source.rewind()?;
        if head.iter().all(u8::is_ascii_whitespace) {
            return Err(IntakeError::Empty);
        }
        if head.starts_with(b"PAR1") {
            return Ok(Self::Parquet);
        }
        if head.starts_with(b"ARROW1") {
            return Ok(Self::Arrow);
        }
        if head.starts_with(&[0xff; 4]) {
            return Ok(Self::ArrowStream);
        }
        if head.starts_with(b"PK\x03\x04") {
            let open_document = archive::look(source)? == Archive::OpenDocument;
            let sheets = guarded(|| workbook::sheets(source, open_document))?;
            let sheet = match sheet {
                None => sheets.iter().find(|s| s.filled).or(sheets.first()).map(|s| s.name.clone()),
                Some(wanted) => {
                    Some(sheets.iter().find(|s| s.name == wanted).map(|s| s.name.clone()).ok_or_else(|| {
                        let names: Vec<String> = sheets.iter().map(|s| format!("“{}”", s.name)).collect();
                        IntakeError::NoSuchSheet { wanted: wanted.into(), sheets: names.join(", ") }
                    })?)
                }
            };
            let sheet = sheet.ok_or(IntakeError::NoSheet)?;
            return Ok(Self::Workbook { open_document, sheet, sheets: sheets.into_iter().map(|s| s.name).collect() });
        }
        if json_lines::begins_like(&head) {
            return Ok(Self::JsonLines { keys: Vec::new() });
        }
        Dialect::find(&head).map(Self::Delimited)
    }

    /// Opens a file of this format for reading from its first row on.
    ///
    /// # Errors
    /// [`IntakeError`] if there are no names of columns to be found in it.
    pub(super) fn open<R>(&self, mut source: R) -> Result<Box<dyn RowSource>, IntakeError>
    where
        R: Read + Seek + Send + 'static,
    {
        source.rewind()?;
        guarded(move || self.open_unguarded(source))
    }

    fn open_unguarded<R>(&self, source: R) -> Result<Box<dyn RowSource>, IntakeError>
    where
        R: Read + Seek + Send + 'static,
    {
        Ok(match self {
            Self::Delimited(dialect) => Box::new(delimited::Delimited::open(source, dialect)?),
            Self::JsonLines { keys } => Box::new(json_lines::JsonLinesReader::open(source, keys.clone())?),
            Self::Workbook { open_document, sheet, .. } => {
                Box::new(workbook::NamedSheet::open(source, *open_document, sheet)?)
            }
            Self::Parquet => Box::new(columnar::Columnar::parquet(source)?),
            Self::Arrow => Box::new(columnar::Columnar::arrow(source)?),
            Self::ArrowStream => Box::new(columnar::Columnar::arrow_stream(source)?),
        })
    }

    /// What it is, for a sentence: “comma between the fields, UTF-8”.
    pub fn sentence(&self) -> String {
        match self {
            Self::Delimited(dialect) => {
                format!("{} between the fields, {}", dialect.delimiter.word(), dialect.encoding)
            }
            Self::JsonLines { .. } => "one JSON object a line".into(),
            Self::Workbook { sheet, .. } => format!("the sheet “{sheet}” of a workbook"),
            Self::Parquet => "Parquet".into(),
            Self::Arrow | Self::ArrowStream => "Arrow".into(),
        }
    }

    /// What the place of a row is counted in: lines of text, or rows.
    pub fn place(&self) -> &'static str {
        match self {
            Self::Delimited(_) | Self::JsonLines { .. } => "line",
            _ => "row",
        }
    }
}
