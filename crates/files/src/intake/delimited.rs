//! Delimited text: comma, semicolon, tab or bar between fields.

use std::io::Read;

use super::block::{RowBlock, RowSink, RowSource};
use super::decoded::Decoded;
use super::misfit::MisfitKind;
use super::quoted::Quoted;
use pronoia_data::value::{DecimalMark, parse_number};

use super::{Dialect, IntakeError, LONGEST_FIELD, MOST_COLUMNS, names};

/// A file of delimited text whose first line was read.
pub(super) struct Delimited<R: Read> {
    source: Decoded<R>,
    record: Quoted,
    /// The line that what is pending begins on, counted from 1.
    line: u64,
    delimiter: u8,
    quote: u8,
    /// The bytes that end a field without quotes.
    ends: [bool; 256],
    names: Vec<String>,
}

impl<R: Read> Delimited<R> {
    /// Opens a file.
    ///
    /// # Errors
    /// [`IntakeError`] if its first line does not name at least two columns.
    pub fn open(source: R, dialect: &Dialect) -> Result<Self, IntakeError> {
        let (delimiter, quote) = (dialect.delimiter.byte(), dialect.quote as u8);
        let mut file = Self {
            source: Decoded::new(source, &dialect.encoding),
            record: Quoted::new(delimiter, quote),
            line: 1,
            delimiter,
            quote,
            ends: std::array::from_fn(|byte| [delimiter, b'\n', b'\r'].iter().any(|end| usize::from(*end) == byte)),
            names: Vec::new(),
        };
        while file.names.is_empty() {
            if file.next_record()?.is_none() {
                return Err(IntakeError::Empty);
            }
            let found = file.record.fields().count();
            if found > MOST_COLUMNS {
                return Err(IntakeError::TooManyColumns { found });
            }
            let names: Vec<String> = file.record.fields().map(|f| f.into_owned()).collect();
            if !is_blank(names.iter().map(String::as_str)) {
                file.names = names;
            }
        }
        if file.names.len() < 2 {
            return Err(IntakeError::OneColumn { name: names::beginning(&file.names[0]) });
        }
        Ok(file)
    }

    /// Reads one record, wherever its quotes open and close; the line that it
    /// begins on, or none at the end.
    fn next_record(&mut self) -> Result<Option<u64>, IntakeError> {
        self.record.clear();
        // What ends the lines before it belongs to no record.
        let mut begun = None;
        loop {
            if begun.is_none() {
                let pending = self.source.pending();
                let blank = pending.iter().position(|b| !matches!(b, b'\r' | b'\n')).unwrap_or(pending.len());
                self.pass(blank);
                begun = (!self.source.pending().is_empty()).then_some(self.line);
            }
            if begun.is_some() {
                let (used, whole) = self.record.take(self.source.pending());
                self.pass(used);
                if whole {
                    return Ok(begun);
                }
            }
            if !self.source.more()? {
                // The end of the file ends a record that has begun.
                return Ok(begun.filter(|_| self.record.take(&[]).1));
            }
        }
    }

    fn pass(&mut self, bytes: usize) {
        self.line += memchr::memchr_iter(b'\n', &self.source.pending()[..bytes]).count() as u64;
        self.source.pass(bytes);
    }

    /// Moves the record into the block.
    fn keep_record(&self, line: u64, block: &mut RowBlock) {
        block.begin(line);
        if self.record.is_endless() {
            return block.reject(MisfitKind::OpenQuote, String::new());
        }
        for field in self.record.fields() {
            let begin = block.add_text(&field);
            block.point_out(begin, begin + field.len());
        }
        self.keep_or_reject(block);
    }

    /// Moves the pending record into the block if it is whole and nothing in it
    /// needs to be rewritten: quotes stand around whole fields or not at all.
    fn keep_plain(&mut self, block: &mut RowBlock) -> bool {
        block.begin(self.line);
        let kept = self.point_out(block).and_then(|(used, mark)| {
            let text = str::from_utf8(&self.source.pending()[..used]).ok()?;
            block.add_text(text);
            Some(used + mark)
        });
        match kept {
            Some(used) => {
                self.keep_or_reject(block);
                self.pass(used);
            }
            None => block.leave_out(),
        }
        kept.is_some()
    }

    /// Points out the fields of the pending record as if it stood in the block already; how
    /// long it is, and how long the mark that ends it.
    fn point_out(&self, block: &mut RowBlock) -> Option<(usize, usize)> {
        let (pending, base) = (self.source.pending(), block.text_len());
        let mut at = 0;
        loop {
            let (begin, end, after) = match pending.get(at) {
                Some(byte) if *byte == self.quote => {
                    let end = at + 1 + memchr::memchr(self.quote, &pending[at + 1..])?;
                    (at + 1, end, end + 1)
                }
                _ => {
                    let end = at + pending[at..].iter().position(|byte| self.ends[usize::from(*byte)])?;
                    (at, end, end)
                }
            };
            block.point_out(base + begin, base + end);
            match *pending.get(after)? {
                mark if mark == self.delimiter => at = after + 1,
                b'\n' | b'\r' => return Some((after, 1)),
                // A quote that does not end the field.
                _ => return None,
            }
        }
    }

    /// Ends the row that stands in the block, and leaves it out if it is none.
    fn keep_or_reject(&self, block: &mut RowBlock) {
        if is_blank(block.open_fields()) {
            return block.leave_out();
        }
        match self.misfit(block) {
            None => block.keep(),
            Some(kind) => {
                let fields: Vec<String> = block.open_fields().map(|f| f.replace('\0', "␀")).collect();
                let stood = fields.join(&char::from(self.delimiter).to_string());
                block.reject(kind, stood.chars().take(2_000).collect());
            }
        }
    }

    /// What keeps the row that stands in the block from being taken.
    fn misfit(&self, block: &RowBlock) -> Option<MisfitKind> {
        let (found, expected) = (block.open_len(), self.names.len());
        let text = block.open_text().as_bytes();
        if found == expected && text.len() <= LONGEST_FIELD && memchr::memchr2(b'\n', 0, text).is_none() {
            return None;
        }
        // A field that holds whole rows was opened by a quote that nobody closed.
        let is_row = |line: &str| line.bytes().filter(|&b| b == self.delimiter).count() + 1 == expected;
        let swallowed = |field: &str| field.contains('\n') && field.split('\n').skip(1).any(is_row);
        if block.open_fields().any(|field| field.len() > LONGEST_FIELD || swallowed(field)) {
            Some(MisfitKind::OpenQuote)
        } else if found != expected {
            Some(MisfitKind::Ragged { found, expected })
        } else if block.open_fields().any(|field| field.contains('\0')) {
            Some(MisfitKind::NulByte)
        } else {
            None
        }
    }
}

/// Whether a row is a line with nothing on it.
fn is_blank<'a>(mut fields: impl Iterator<Item = &'a str>) -> bool {
    let first = fields.next().unwrap_or_default();
    fields.next().is_none() && first.bytes().all(|b| b.is_ascii_whitespace())
}

impl<R: Read> RowSource for Delimited<R> {
    fn names(&self) -> &[String] {
        &self.names
    }

    fn length(&self) -> u64 {
        0
    }

    fn notes(&self) -> Vec<String> {
        let figures = self.names.iter().filter(|n| parse_number(n, DecimalMark::Point).is_some()).count();
        if figures * 2 > self.names.len() {
            return vec![
                "The first line is mostly figures; it is read as the names of the columns all the same.".into(),
            ];
        }
        Vec::new()
    }

    fn each(&mut self, take: &mut RowSink) -> Result<(), IntakeError> {
        let mut block = RowBlock::default();
        loop {
            if !self.keep_plain(&mut block) {
                match self.next_record()? {
                    Some(line) => self.keep_record(line, &mut block),
                    None => return block.hand_over(take),
                }
            }
            block.passed = self.source.passed();
            block.hand_on(take)?;
        }
    }
}
