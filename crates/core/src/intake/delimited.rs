//! Delimited text: comma, semicolon, tab or bar between fields.

use std::io::{BufReader, Read};

use ::csv::{ByteRecord, Reader, ReaderBuilder};
use encoding_rs_io::{DecodeReaderBytes, DecodeReaderBytesBuilder};

use super::plan::MisfitKind;
use super::record::{Record, Rows, Take};
use super::{Dialect, IntakeError, LONGEST_FIELD, MOST_COLUMNS, parse_number};

type Source<R> = Reader<DecodeReaderBytes<BufReader<R>, Vec<u8>>>;

/// A file of delimited text whose first line was read.
pub(super) struct Delimited<R: Read> {
    reader: Source<R>,
    delimiter: u8,
    names: Vec<String>,
}

impl<R: Read> Delimited<R> {
    /// Opens a file.
    ///
    /// # Errors
    /// [`IntakeError`] if its first line does not name at least two columns.
    pub fn open(source: R, dialect: &Dialect) -> Result<Self, IntakeError> {
        let delimiter = dialect.delimiter.byte();
        let mut reader = decoded(source, dialect);
        let mut first = ByteRecord::new();
        if next(&mut reader, &mut first)?.is_none() {
            return Err(IntakeError::Empty);
        }
        if first.len() > MOST_COLUMNS {
            return Err(IntakeError::TooManyColumns { found: first.len() });
        }
        let mut names: Vec<String> = first.iter().map(|f| String::from_utf8_lossy(f).into_owned()).collect();
        if names.len() < 2 {
            return Err(IntakeError::OneColumn { name: names.swap_remove(0) });
        }
        Ok(Self { reader, delimiter, names })
    }
}

impl<R: Read> Rows for Delimited<R> {
    fn names(&self) -> &[String] {
        &self.names
    }

    fn length(&self) -> u64 {
        0
    }

    fn notes(&self) -> Vec<String> {
        let figures = self.names.iter().filter(|n| parse_number(n, super::DecimalMark::Point).is_some()).count();
        if figures * 2 > self.names.len() {
            return vec![
                "The first line is mostly figures; it is taken for the names of the columns all the same.".into(),
            ];
        }
        Vec::new()
    }

    fn each(&mut self, take: &mut Take) -> Result<(), IntakeError> {
        let mut record = Record::default();
        let mut bytes = ByteRecord::new();
        while let Some(line) = next(&mut self.reader, &mut bytes)? {
            (record.line, record.passed) = (line, self.reader.position().byte());
            record.misfit = misfit_of(&bytes, self.names.len(), self.delimiter);
            // The next row is about as long as this one.
            let next = ByteRecord::with_capacity(bytes.as_slice().len() * 5 / 4, bytes.len());
            record.take_bytes(std::mem::replace(&mut bytes, next));
            take(&mut record)?;
        }
        Ok(())
    }
}

fn decoded<R: Read>(source: R, dialect: &Dialect) -> Source<R> {
    let source = BufReader::with_capacity(128 * 1024, source);
    let encoding = encoding_rs::Encoding::for_label(dialect.encoding.as_bytes());
    let decoded = DecodeReaderBytesBuilder::new()
        .encoding(encoding.filter(|e| *e != encoding_rs::UTF_8))
        .strip_bom(true)
        .bom_override(true)
        .build_with_buffer(source, vec![0; 128 * 1024])
        .unwrap_or_else(|_| unreachable!("the buffer is larger than a character"));
    ReaderBuilder::new()
        .has_headers(false)
        .flexible(true)
        .delimiter(dialect.delimiter.byte())
        .quote(dialect.quote as u8)
        .from_reader(decoded)
}

/// Reads the next record that is not blank; its line, or none at the end.
fn next<R: Read>(reader: &mut Source<R>, record: &mut ByteRecord) -> Result<Option<u64>, IntakeError> {
    loop {
        match reader.read_byte_record(record) {
            Ok(false) => return Ok(None),
            Ok(true) => {
                let blank = record.len() == 1 && record[0].iter().all(u8::is_ascii_whitespace);
                if !blank {
                    return Ok(Some(record.position().map_or(0, ::csv::Position::line)));
                }
            }
            Err(e) => return Err(IntakeError::Read(std::io::Error::other(e.to_string()))),
        }
    }
}

/// What keeps a row from being taken, and the row as it stood.
fn misfit_of(record: &ByteRecord, expected: usize, delimiter: u8) -> Option<(MisfitKind, String)> {
    let longest = record.iter().map(<[u8]>::len).max().unwrap_or(0);
    // A field that holds whole rows was opened by a quote that nobody closed.
    let is_row = |line: &[u8]| line.iter().filter(|&&b| b == delimiter).count() + 1 == expected;
    let swallowed = record.iter().any(|f| f.contains(&b'\n') && f.split(|&b| b == b'\n').skip(1).any(is_row));
    let kind = if longest > LONGEST_FIELD || swallowed {
        MisfitKind::OpenQuote
    } else if record.len() != expected {
        MisfitKind::Ragged { found: record.len(), expected }
    } else if record.as_slice().contains(&0) {
        MisfitKind::NulByte
    } else {
        return None;
    };
    let delimiter = char::from(delimiter).to_string();
    let row: Vec<String> = record.iter().map(|f| String::from_utf8_lossy(f).replace('\0', "␀")).collect();
    Some((kind, row.join(&delimiter).chars().take(2_000).collect()))
}
