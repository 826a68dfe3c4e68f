//! One row as any format hands it over.

use csv::{ByteRecord, StringRecord};

use super::IntakeError;
use super::plan::MisfitKind;

/// What the format itself says about a field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Told {
    /// Nothing: the field is as somebody wrote it.
    Nothing,
    /// It is text, even where it consists of digits.
    Text,
    /// It is a number, written with a decimal point.
    Number,
    /// It is a day, written year-month-day.
    Day,
    /// It is the message of a formula that failed.
    Failure,
}

/// One row: fields as text, with what the format says of each.
#[derive(Debug, Default, Clone)]
pub(super) struct Record {
    /// Line or row of the source, counted from 1.
    pub line: u64,
    /// Bytes, or another measure of the way through the source, up to here.
    pub passed: u64,
    /// The fields as UTF-8.
    pub fields: StringRecord,
    /// One entry per field, or none at all if the format says nothing.
    pub told: Vec<Told>,
    /// Why the row cannot be taken, and how it stood.
    pub misfit: Option<(MisfitKind, String)>,
}

impl Record {
    /// Makes it empty for the row on `line`.
    pub fn begin(&mut self, line: u64, passed: u64) {
        (self.line, self.passed, self.misfit) = (line, passed, None);
        self.fields.clear();
        self.told.clear();
    }

    /// Adds a field.
    pub fn push(&mut self, text: &str, told: Told) {
        self.fields.push_field(text);
        self.told.push(told);
    }

    /// Field `at` as text, trimmed; empty if the row has none there.
    pub fn text(&self, at: usize) -> &str {
        self.fields.get(at).unwrap_or_default().trim()
    }

    /// Takes fields as bytes; what is not UTF-8 in them is replaced.
    pub fn take_bytes(&mut self, fields: ByteRecord) {
        self.fields = StringRecord::from_byte_record(fields)
            .unwrap_or_else(|e| StringRecord::from_byte_record_lossy(e.into_byte_record()));
    }

    /// What the format says of field `at`.
    pub fn told(&self, at: usize) -> Told {
        self.told.get(at).copied().unwrap_or(Told::Nothing)
    }
}

/// What a reader of rows is handed: every row in turn, to be kept or left.
pub(super) type Take<'a> = dyn FnMut(&mut Record) -> Result<(), IntakeError> + 'a;

/// A source of rows.
pub(super) trait Rows {
    /// Names of the columns as they stand in the source, neither distinct nor
    /// filled. Some formats know all of them only after the last row.
    fn names(&self) -> &[String];

    /// The value of [`Record::passed`] at the end; 0 if unknown.
    fn length(&self) -> u64;

    /// What the reader should know about the source, in sentences.
    fn notes(&self) -> Vec<String> {
        Vec::new()
    }

    /// Hands every row to `take`, in the order of the source.
    ///
    /// # Errors
    /// [`IntakeError`] if the bytes cannot be read, or the one that `take` gave.
    fn each(&mut self, take: &mut Take) -> Result<(), IntakeError>;
}
