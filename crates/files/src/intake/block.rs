//! Rows as any format hands them over: some at a time, their fields in one piece of text.

use super::IntakeError;
use super::field::{FieldKind, RowField};
use super::misfit::{Misfit, MisfitKind};

/// Rows of a block at most.
const MOST_ROWS: usize = 1_024;

/// Bytes from which on a block is handed on.
const LARGE: usize = 1 << 20;

/// Some rows, one after the other.
#[derive(Debug, Default)]
pub(super) struct RowBlock {
    /// Bytes, or another measure of the way through the source, up to its end.
    pub passed: u64,
    /// Rows among them that cannot be taken.
    pub misfits: Vec<Misfit>,
    /// The fields; there may be something between them.
    text: String,
    /// Where every field begins and ends in the text.
    fields: Vec<[u32; 2]>,
    /// One entry per field, or none at all if the format says nothing.
    told: Vec<FieldKind>,
    rows: Vec<FieldRow>,
    /// The row that is being put together.
    open: FieldRow,
}

#[derive(Debug, Default, Clone, Copy)]
struct FieldRow {
    /// Line or row of the source, counted from 1.
    line: u64,
    /// Its fields begin at this one.
    first: usize,
}

impl RowBlock {
    /// Begins the row on `line`, counted from 1.
    pub fn begin(&mut self, line: u64) {
        self.open = FieldRow { line, first: self.fields.len() };
    }

    /// Adds a field to the row.
    pub fn push(&mut self, text: &str, told: FieldKind) {
        let begin = self.add_text(text);
        self.told.push(told);
        self.point_out(begin, begin + text.len());
    }

    /// Adds text in which fields are to be pointed out; where it begins.
    pub fn add_text(&mut self, text: &str) -> usize {
        self.text.push_str(text);
        self.text.len() - text.len()
    }

    /// Length of the text.
    pub fn text_len(&self) -> usize {
        self.text.len()
    }

    /// Adds a field to the row that is in the text already, or is added to it next.
    pub fn point_out(&mut self, begin: usize, end: usize) {
        // A block is handed on long before it is as large as that.
        self.fields.push([begin as u32, end as u32]);
    }

    /// The fields of the row so far.
    pub fn open_fields(&self) -> impl Iterator<Item = &str> {
        self.fields[self.open.first..].iter().map(|&[begin, end]| &self.text[begin as usize..end as usize])
    }

    /// The fields of the row so far in one piece, with whatever is between them.
    pub fn open_text(&self) -> &str {
        match (self.fields.get(self.open.first), self.fields.last()) {
            (Some([begin, _]), Some([_, end])) => &self.text[*begin as usize..*end as usize],
            _ => "",
        }
    }

    /// Number of fields of the row so far.
    pub fn open_len(&self) -> usize {
        self.fields.len() - self.open.first
    }

    /// Ends the row.
    pub fn keep(&mut self) {
        self.rows.push(self.open);
    }

    /// Takes the row back.
    pub fn leave_out(&mut self) {
        self.fields.truncate(self.open.first);
        self.told.truncate(self.open.first);
    }

    /// Takes the row back, because of what is wrong with it; `stood` is how it was written.
    pub fn reject(&mut self, kind: MisfitKind, stood: String) {
        self.leave_out();
        self.misfits.push(Misfit { line: self.open.line, kind, row: stood });
    }

    /// Whether the format says nothing of any field.
    pub fn is_untold(&self) -> bool {
        self.told.is_empty()
    }

    /// Number of rows.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// The most fields of any row.
    pub fn width(&self) -> usize {
        (0..self.len()).map(|row| self.end(row) - self.rows[row].first).max().unwrap_or(0)
    }

    /// The fields of a row as they stand.
    pub fn row(&self, row: usize) -> impl Iterator<Item = &str> {
        let fields = &self.fields[self.rows[row].first..self.end(row)];
        fields.iter().map(|&[begin, end]| &self.text[begin as usize..end as usize])
    }

    /// The field of every row in one column, empty where a row has none there, and
    /// the line of the row.
    pub fn column(&self, at: usize) -> impl Iterator<Item = (u64, RowField<'_>)> {
        self.rows.iter().enumerate().map(move |(row, &FieldRow { line, first })| {
            let place = first + at;
            if place >= self.end(row) {
                return (line, RowField::of("", FieldKind::Nothing));
            }
            let [begin, end] = self.fields[place];
            let told = self.told.get(place).copied().unwrap_or(FieldKind::Nothing);
            (line, RowField::of(&self.text[begin as usize..end as usize], told))
        })
    }

    fn end(&self, row: usize) -> usize {
        self.rows.get(row + 1).map_or(self.fields.len(), |next| next.first)
    }

    /// Hands the rows on if there are many of them by now.
    ///
    /// # Errors
    /// The one that `take` gave.
    pub fn hand_on(&mut self, take: &mut RowSink) -> Result<(), IntakeError> {
        if self.rows.len() < MOST_ROWS && self.text.len() < LARGE && self.misfits.len() < MOST_ROWS {
            return Ok(());
        }
        self.hand_over(take)
    }

    /// Hands on what there is.
    ///
    /// # Errors
    /// The one that `take` gave.
    pub fn hand_over(&mut self, take: &mut RowSink) -> Result<(), IntakeError> {
        let passed = self.passed;
        match std::mem::replace(self, Self { passed, ..Self::default() }) {
            block if block.rows.is_empty() && block.misfits.is_empty() => Ok(()),
            block => take(block),
        }
    }
}

/// What a reader of rows is handed: all of them, block by block.
pub(super) type RowSink<'a> = dyn FnMut(RowBlock) -> Result<(), IntakeError> + 'a;

/// A source of rows.
pub(super) trait RowSource {
    /// Names of the columns as they stand in the source, neither distinct nor
    /// filled. Some formats know all of them only after the last row.
    fn names(&self) -> &[String];

    /// The value of [`Block::passed`] at the end; 0 if unknown.
    fn length(&self) -> u64;

    /// What the reader should know about the source, in sentences.
    fn notes(&self) -> Vec<String> {
        Vec::new()
    }

    /// Hands every row to `take`, in the order of the source.
    ///
    /// # Errors
    /// [`IntakeError`] if the bytes cannot be read, or the one that `take` gave.
    fn each(&mut self, take: &mut RowSink) -> Result<(), IntakeError>;
}
