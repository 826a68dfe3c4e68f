//! Delimited text: one pass to understand it, one pass to read it.

use std::io::{BufReader, Read};

use ::csv::{ByteRecord, Reader, ReaderBuilder};
use encoding_rs_io::{DecodeReaderBytes, DecodeReaderBytesBuilder};

use super::infer::Tally;
use super::plan::{ColumnPlan, Misfit, MisfitKind, Plan, Scan};
use super::value::{ValueFormat, is_missing_mark, parse_date, parse_number};
use super::{Dialect, IntakeError, LONGEST_FIELD, MISFITS_KEPT, MOST_COLUMNS};
use crate::progress::Part;
use crate::table::ColumnBuilder;
use crate::{Progress, Table};

/// Bytes from which encoding, delimiter and quote are told.
const HEAD: usize = 256 * 1024;

/// Rows that are read at a time when only what does not fit is wanted.
const LOOK: usize = 20_000;

/// Rows between two looks at whether the work should stop.
const ROWS_PER_LOOK: u64 = 4_096;

type Source<R> = Reader<DecodeReaderBytes<BufReader<std::io::Chain<std::io::Cursor<Vec<u8>>, R>>, Vec<u8>>>;

/// Reads a delimited text file from end to end and says what is in it.
///
/// `open` is called again if cells do not fit, to say which. `size` is its length in bytes, for the share done; 0 if unknown.
///
/// # Errors
/// [`IntakeError`] if it cannot become a table at all. Rows and cells that do
/// not fit are no error; they are in the [`Scan`].
pub fn scan<R: Read, E>(
    open: impl Fn() -> Result<R, E>,
    size: u64,
    progress: &dyn Progress,
) -> Result<Scan, Result<IntakeError, E>> {
    let understood = understand(open().map_err(Err)?, size, &Part::of(progress, 0.0, 0.6)).map_err(Ok)?;
    let (mut scan, cells) = understood;
    if cells > 0 {
        // Some cells do not read as their column's kind: a second look says which.
        let mut chunks = Chunks::open(open().map_err(Err)?, scan.plan.clone(), size, LOOK).map_err(Ok)?;
        let part = Part::of(progress, 0.6, 1.0);
        while chunks.next(&part).map_err(Ok)?.is_some() {}
        let (_, cells, misfits) = chunks.misfits();
        (scan.misfit_cells, scan.misfits) = (cells, misfits.to_vec());
    }
    Ok(scan)
}

/// One pass over the file: what is in it, and how many cells do not fit.
fn understand(mut source: impl Read, size: u64, progress: &dyn Progress) -> Result<(Scan, u64), IntakeError> {
    let mut head = Vec::with_capacity(HEAD);
    source.by_ref().take(HEAD as u64).read_to_end(&mut head)?;
    if head.iter().all(u8::is_ascii_whitespace) {
        return Err(IntakeError::Empty);
    }
    let encoding = Dialect::find_encoding(&head)?;
    let (decoded, _, _) = encoding.decode(&head);
    let (delimiter, quote) = Dialect::find_separators(&decoded);
    drop(decoded);
    let dialect = Dialect { delimiter, quote, encoding: encoding.name().into() };
    let mut reader = open(head, source, &dialect);
    let mut notes = Vec::new();
    let names = header(&mut reader, &mut notes)?;

    let mut tallies: Vec<Tally> = names.iter().map(|_| Tally::default()).collect();
    let mut found = Findings::default();
    let mut first_rows = Vec::new();
    let mut rows = 0u64;
    let mut first_misfit_width = None;
    let mut record = ByteRecord::new();
    while let Some(line) = next(&mut reader, &mut record)? {
        if (rows + found.rejected).is_multiple_of(ROWS_PER_LOOK) {
            progress.go_on()?;
            let share = reader.position().byte() as f64 / size.max(1) as f64;
            progress.tell("Reading the file to see what is in it", share);
        }
        if let Some(misfit) = misfit_of(&record, line, names.len(), &dialect) {
            first_misfit_width.get_or_insert((line, record.len()));
            found.reject(misfit);
            continue;
        }
        rows += 1;
        for (field, tally) in record.iter().zip(&mut tallies) {
            tally.see(&String::from_utf8_lossy(field));
        }
        if first_rows.len() < 20 {
            first_rows.push(record.iter().map(|f| String::from_utf8_lossy(f).into_owned()).collect());
        }
    }
    if rows == 0 {
        return Err(match first_misfit_width {
            None => IntakeError::HeaderOnly { columns: names.len() },
            Some((line, fields)) => {
                IntakeError::NothingFits { rows: found.rejected, columns: names.len(), line, fields }
            }
        });
    }
    let comma_file = tallies.iter().map(Tally::comma_vote).sum::<i64>() > 0;
    let mut cells = 0;
    let columns: Vec<ColumnPlan> = names
        .into_iter()
        .zip(&tallies)
        .map(|(name, tally)| {
            let (kind, format, reason) = tally.conclude(&name, comma_file);
            cells += tally.misfits(format);
            ColumnPlan { name, kind, format, reason }
        })
        .collect();
    let ambiguous: Vec<&str> =
        columns.iter().filter(|c| c.reason.contains("other way round")).map(|c| c.name.as_str()).collect();
    if !ambiguous.is_empty() {
        notes.push(format!("Day and month cannot be told apart in {}; they are read day first.", ambiguous.join(", ")));
    }
    let plan = Plan { dialect, columns };
    let scan = Scan { plan, rows, rejected: found.rejected, misfit_cells: 0, misfits: found.kept, first_rows, notes };
    Ok((scan, cells))
}

/// The rows of a file in tables of at most `chunk` rows.
pub struct Chunks<R: Read> {
    reader: Source<R>,
    plan: Plan,
    chunk: usize,
    size: u64,
    rows: u64,
    findings: Findings,
}

#[derive(Default)]
struct Findings {
    kept: Vec<Misfit>,
    rejected: u64,
    cells: u64,
}

impl Findings {
    fn reject(&mut self, misfit: Misfit) {
        self.rejected += 1;
        self.keep(misfit);
    }

    fn cell(&mut self, line: u64, column: &ColumnPlan, value: &str) {
        self.cells += 1;
        if self.kept.len() < MISFITS_KEPT {
            let value = value.chars().take(80).collect();
            let kind = MisfitKind::Cell { column: column.name.clone(), kind: column.kind, value };
            self.keep(Misfit { line, kind, row: String::new() });
        }
    }

    fn keep(&mut self, misfit: Misfit) {
        if self.kept.len() < MISFITS_KEPT {
            self.kept.push(misfit);
        }
    }
}

impl<R: Read> Chunks<R> {
    /// Opens a file that was scanned before.
    ///
    /// # Errors
    /// [`IntakeError::Read`] if it cannot be read, [`IntakeError::Empty`] if it changed since.
    pub fn open(source: R, plan: Plan, size: u64, chunk: usize) -> Result<Self, IntakeError> {
        let mut reader = open(Vec::new(), source, &plan.dialect);
        header(&mut reader, &mut Vec::new())?;
        Ok(Self { reader, plan, chunk, size, rows: 0, findings: Findings::default() })
    }

    /// The next rows; none at the end of the file.
    ///
    /// # Errors
    /// [`IntakeError`] if the bytes cannot be read or the work was stopped.
    pub fn next(&mut self, progress: &dyn Progress) -> Result<Option<Table>, IntakeError> {
        progress.go_on()?;
        let mut builders: Vec<ColumnBuilder> =
            self.plan.columns.iter().map(|c| ColumnBuilder::new(c.name.clone(), c.kind)).collect();
        let mut record = ByteRecord::new();
        let mut taken = 0;
        while taken < self.chunk {
            let Some(line) = next(&mut self.reader, &mut record)? else { break };
            if let Some(misfit) = misfit_of(&record, line, builders.len(), &self.plan.dialect) {
                self.findings.reject(misfit);
                continue;
            }
            for ((field, column), builder) in record.iter().zip(&self.plan.columns).zip(&mut builders) {
                if !push(field, column.format, builder) {
                    let value = String::from_utf8_lossy(field);
                    self.findings.cell(line, column, value.trim());
                }
            }
            taken += 1;
        }
        self.rows += taken as u64;
        progress.tell("Reading the rows", self.reader.position().byte() as f64 / self.size.max(1) as f64);
        if taken == 0 {
            return Ok(None);
        }
        Table::new(builders.into_iter().map(ColumnBuilder::finish).collect())
            .map(Some)
            .map_err(|e| IntakeError::Read(std::io::Error::other(e)))
    }

    /// Rows read so far.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// Rows rejected and cells taken as missing so far, and the first of them.
    pub fn misfits(&self) -> (u64, u64, &[Misfit]) {
        (self.findings.rejected, self.findings.cells, &self.findings.kept)
    }
}

/// Scans and reads a whole file into memory.
///
/// `open` is called twice and must give the same bytes. `change` may alter
/// what was understood before the rows are read.
///
/// # Errors
/// As [`scan`]; an error of `open` is handed through.
pub fn read_table_as<R: Read, E>(
    open: impl Fn() -> Result<R, E>,
    size: u64,
    change: impl FnOnce(&mut Scan),
    progress: &dyn Progress,
) -> Result<(Table, Scan), Result<IntakeError, E>> {
    let (mut scanned, _) = understand(open().map_err(Err)?, size, &Part::of(progress, 0.0, 0.5)).map_err(Ok)?;
    change(&mut scanned);
    let mut chunks = Chunks::open(open().map_err(Err)?, scanned.plan.clone(), size, usize::MAX).map_err(Ok)?;
    let table = chunks.next(&Part::of(progress, 0.5, 1.0)).map_err(Ok)?.ok_or(Ok(IntakeError::Empty))?;
    let (rejected, cells, misfits) = chunks.misfits();
    (scanned.rejected, scanned.misfit_cells, scanned.misfits) = (rejected, cells, misfits.to_vec());
    Ok((table, scanned))
}

/// Scans and reads bytes that are in memory.
///
/// # Errors
/// As [`scan`].
pub fn read_table(bytes: &[u8], progress: &dyn Progress) -> Result<(Table, Scan), IntakeError> {
    let open = || Ok::<_, std::io::Error>(bytes);
    read_table_as(open, bytes.len() as u64, |_| {}, progress).map_err(|e| e.unwrap_or_else(IntakeError::Read))
}

fn open<R: Read>(head: Vec<u8>, rest: R, dialect: &Dialect) -> Source<R> {
    let source = BufReader::with_capacity(128 * 1024, std::io::Cursor::new(head).chain(rest));
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

/// The names in the first line, made distinct and never empty.
fn header<R: Read>(reader: &mut Source<R>, notes: &mut Vec<String>) -> Result<Vec<String>, IntakeError> {
    let mut record = ByteRecord::new();
    if next(reader, &mut record)?.is_none() {
        return Err(IntakeError::Empty);
    }
    if record.len() > MOST_COLUMNS {
        return Err(IntakeError::TooManyColumns { found: record.len() });
    }
    let mut names: Vec<String> = Vec::with_capacity(record.len());
    for (i, field) in record.iter().enumerate() {
        let given: String = String::from_utf8_lossy(field).trim().chars().filter(|c| !c.is_control()).collect();
        let base = if given.is_empty() { format!("column {}", i + 1) } else { given.clone() };
        let mut name = base.clone();
        let mut n = 2;
        while names.contains(&name) {
            name = format!("{base} ({n})");
            n += 1;
        }
        if given.is_empty() {
            notes.push(format!("Column {} has no name; it is called “{name}”.", i + 1));
        } else if name != given {
            notes.push(format!("Two columns are called “{given}”; column {} is called “{name}”.", i + 1));
        }
        names.push(name);
    }
    if names.len() < 2 {
        return Err(IntakeError::OneColumn { name: names.swap_remove(0) });
    }
    let figures = record
        .iter()
        .filter(|f| parse_number(&String::from_utf8_lossy(f), super::DecimalMark::Point).is_some())
        .count();
    if figures * 2 > names.len() {
        notes.push("The first line is mostly figures; it is taken for the names of the columns all the same.".into());
    }
    Ok(names)
}

fn misfit_of(record: &ByteRecord, line: u64, expected: usize, dialect: &Dialect) -> Option<Misfit> {
    let delimiter = dialect.delimiter.byte();
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
    Some(Misfit { line, kind, row: row.join(&delimiter).chars().take(2_000).collect() })
}

/// Adds a field to a column; false if it does not read as the column's kind.
fn push(field: &[u8], format: ValueFormat, builder: &mut ColumnBuilder) -> bool {
    let text = String::from_utf8_lossy(field);
    let text = text.trim();
    if is_missing_mark(text) {
        builder.push_missing();
        return true;
    }
    match format {
        ValueFormat::Text => builder.push_word(text),
        ValueFormat::Number { mark } => match parse_number(text, mark) {
            Some(x) => builder.push_number(x),
            None => {
                builder.push_missing();
                return false;
            }
        },
        ValueFormat::Date { order } => match parse_date(text, order) {
            Some(d) => builder.push_date(d),
            None => {
                builder.push_missing();
                return false;
            }
        },
    }
    true
}
