//! Sheets of workbooks: Office Open XML (ECMA-376) and OpenDocument (ISO/IEC 26300).

use std::io::{BufReader, Read, Seek};

use calamine::{Data, DataType, Dimensions, Ods, Range, Reader, SheetType, SheetVisible, Xlsx};

use super::block::{RowBlock, RowSink, RowSource};
use super::field::FieldKind;
use super::guard::guarded;
use super::misfit::MisfitKind;
use super::{IntakeError, MOST_COLUMNS};
use pronoia_data::table::written_number;

/// Rows from which the names of the columns are told.
const HEAD_ROWS: usize = 40;

/// A cell that is not empty: its column, what it is, and how it reads.
type SheetCell = (u32, FieldKind, String);

/// What is handed a row and its filled cells; whether it wants more.
type TakeCells<'a> = dyn FnMut(u32, &[SheetCell]) -> Result<bool, IntakeError> + 'a;

/// A sheet that is not hidden.
pub(super) struct SheetName {
    /// Its name.
    pub name: String,
    /// Whether there is anything on it.
    pub filled: bool,
}

enum WorkbookReader<R: Read + Seek> {
    OfficeOpenXml(Box<Xlsx<BufReader<R>>>),
    OpenDocument(Range<Data>),
}

/// The sheets of a workbook that are not hidden, in its order.
///
/// # Errors
/// [`IntakeError::Damaged`].
pub(super) fn sheets(source: &mut (impl Read + Seek), open_document: bool) -> Result<Vec<SheetName>, IntakeError> {
    source.rewind()?;
    if open_document {
        let mut book = Ods::new(BufReader::new(source)).map_err(damaged)?;
        let visible = visible(book.sheets_metadata());
        let filled = |name: String| {
            let filled = book.worksheet_range(&name).is_ok_and(|range| !range.is_empty());
            SheetName { name, filled }
        };
        return Ok(visible.into_iter().map(filled).collect());
    }
    let mut book = Xlsx::new(BufReader::new(source)).map_err(damaged)?;
    let visible = visible(book.sheets_metadata());
    Ok(visible
        .into_iter()
        .map(|name| {
            let first = book.worksheet_cells_reader(&name).ok().and_then(|mut cells| cells.next_cell().ok().flatten());
            SheetName { filled: first.is_some(), name }
        })
        .collect())
}

fn visible(sheets: &[calamine::Sheet]) -> Vec<String> {
    let shown = sheets.iter().filter(|s| s.visible == SheetVisible::Visible && s.typ == SheetType::WorkSheet);
    shown.map(|s| s.name.clone()).collect()
}

/// A sheet with the names of its columns found.
pub(super) struct NamedSheet<R: Read + Seek> {
    book: WorkbookReader<R>,
    name: String,
    names: Vec<String>,
    notes: Vec<String>,
    /// Column of the sheet in which the table begins.
    left: u32,
    /// First row of the sheet below the names, counted from 0.
    below: u32,
    rows: u64,
}

impl<R: Read + Seek> NamedSheet<R> {
    /// Opens a sheet.
    ///
    /// The names stand in the first row with at least two filled cells and at
    /// least half as many as the fullest row of the beginning; what stands
    /// above is a title. Where cells of that row are merged over several
    /// columns, the row below names the parts, and a column is called
    /// “group – part”.
    ///
    /// # Errors
    /// [`IntakeError::Damaged`]; [`IntakeError::EmptySheet`]; [`IntakeError::HeaderOnly`].
    pub fn open(source: R, open_document: bool, name: &str) -> Result<Self, IntakeError> {
        let mut merged = Vec::new();
        let mut book = if open_document {
            let mut ods = Ods::new(BufReader::new(source)).map_err(damaged)?;
            WorkbookReader::OpenDocument(ods.worksheet_range(name).map_err(damaged)?)
        } else {
            let mut xlsx = Xlsx::new(BufReader::new(source)).map_err(damaged)?;
            merged = xlsx.merge_cells_by_sheet_name(name).map_err(damaged)?;
            WorkbookReader::OfficeOpenXml(Box::new(xlsx))
        };
        let mut head: Vec<(u32, Vec<SheetCell>)> = Vec::new();
        let mut last = 0;
        book.each_row(name, &mut |row, cells| {
            if head.len() < HEAD_ROWS {
                head.push((row, cells.to_vec()));
            }
            last = row;
            // The end of a large sheet is told by its own statement, not by reading on.
            Ok(head.len() < HEAD_ROWS)
        })?;
        let last = book.last_row().unwrap_or(last).max(last);
        let header = Header::find(&head, &merged).ok_or_else(|| IntakeError::EmptySheet { sheet: name.into() })?;
        let mut notes = header.notes;
        if !merged.is_empty() && merged.iter().any(|m| m.start.0 >= header.below) {
            notes.push("Merged cells below the names count once, in their first cell; the others are missing.".into());
        }
        let rows = u64::from(last.saturating_sub(header.below) + 1);
        let (names, left, below) = (header.names, header.left, header.below);
        Ok(Self { book, name: name.into(), names, notes, left, below, rows })
    }
}

struct Header {
    names: Vec<String>,
    left: u32,
    below: u32,
    notes: Vec<String>,
}

impl Header {
    fn find(head: &[(u32, Vec<SheetCell>)], merged: &[Dimensions]) -> Option<Self> {
        let fullest = head.iter().map(|(_, cells)| cells.len()).max()?;
        let enough = (fullest.div_ceil(2)).max(2).min(fullest);
        let spans = |row: u32| merged.iter().filter(move |m| m.start.0 == row && m.end.1 > m.start.1);
        let grouped = |row: u32| spans(row).next().is_some();
        // A title may be merged over the whole width; the names of groups are several.
        let is_names = |at: usize| {
            let (row, cells) = &head[at];
            cells.len() >= enough || (cells.len() >= 2 && grouped(*row))
        };
        let at = (0..head.len()).find(|&at| is_names(at))?;
        let (row, first) = &head[at];
        let mut notes = Vec::new();
        if at > 0 {
            notes.push(format!(
                "What stands above the names in row {} (“{}”) is ignored.",
                row + 1,
                head[0].1.first().map_or("", |c| c.2.as_str())
            ));
        }
        let parts = head.get(at + 1).filter(|(next, cells)| {
            let all_text = cells.iter().all(|c| c.1 == FieldKind::Text);
            *next == row + 1 && all_text && (grouped(*row) || first.len() < cells.len())
        });
        let below = row + 1 + u32::from(parts.is_some());
        let body = &head[at..];
        let left = body.iter().filter_map(|(_, cells)| cells.first().map(|c| c.0)).min()?;
        let right = body.iter().filter_map(|(_, cells)| cells.last().map(|c| c.0)).max()?;
        let text =
            |cells: &[SheetCell], column: u32| cells.iter().find(|c| c.0 == column).map(|c| c.2.trim().to_owned());
        let mut names = Vec::new();
        let mut carried: Option<String> = None;
        for column in left..=right.min(left.saturating_add(MOST_COLUMNS as u32 + 1)) {
            let here = text(first, column);
            let Some((_, parts)) = parts else {
                names.push(here.unwrap_or_default());
                continue;
            };
            let within = spans(*row).find(|m| m.contains(*row, column)).map(|m| m.start.1);
            let group = match (here, within) {
                (Some(own), _) => Some(own),
                (None, Some(start)) => text(first, start),
                // Without word of merged cells, an empty one goes on with the group before it.
                (None, None) if merged.is_empty() => carried.clone(),
                (None, None) => None,
            };
            carried.clone_from(&group);
            names.push(match (group, text(parts, column)) {
                (Some(group), Some(part)) => format!("{group} – {part}"),
                (Some(one), None) | (None, Some(one)) => one,
                (None, None) => String::new(),
            });
        }
        Some(Self { names, left, below, notes })
    }
}

impl<R: Read + Seek> RowSource for NamedSheet<R> {
    fn names(&self) -> &[String] {
        &self.names
    }

    fn length(&self) -> u64 {
        self.rows
    }

    fn notes(&self) -> Vec<String> {
        self.notes.clone()
    }

    fn each(&mut self, take: &mut RowSink) -> Result<(), IntakeError> {
        let (left, below, width) = (self.left, self.below, self.names.len());
        let mut block = RowBlock::default();
        self.book.each_row(&self.name, &mut |row, cells| {
            if row < below {
                return Ok(true);
            }
            block.begin(u64::from(row) + 1);
            let mut cells = cells.iter().peekable();
            for column in left..left + width as u32 {
                match cells.next_if(|c| c.0 == column) {
                    Some((_, told, text)) => block.push(text, *told),
                    None => block.push("", FieldKind::Nothing),
                }
            }
            match cells.next() {
                None => block.keep(),
                Some(stray) => {
                    let found = (stray.0 - left) as usize + 1;
                    block.reject(MisfitKind::Ragged { found, expected: width }, stray.2.clone());
                }
            }
            block.passed = u64::from(row - below) + 1;
            block.hand_on(take)?;
            Ok(true)
        })?;
        block.hand_over(take)
    }
}

impl<R: Read + Seek> WorkbookReader<R> {
    /// Hands over the filled cells of every row that has any, until told to stop.
    fn each_row(&mut self, sheet: &str, take: &mut TakeCells) -> Result<(), IntakeError> {
        let mut cells: Vec<SheetCell> = Vec::new();
        match self {
            Self::OfficeOpenXml(book) => {
                let mut reader = book.worksheet_cells_reader(sheet).map_err(damaged)?;
                let mut row = 0;
                while let Some(cell) = guarded(|| reader.next_cell().map_err(damaged))? {
                    let (at, column) = cell.get_position();
                    let Some((told, text)) = read(cell.get_value()) else { continue };
                    if at != row && !cells.is_empty() {
                        if !take(row, &cells)? {
                            return Ok(());
                        }
                        cells.clear();
                    }
                    row = at;
                    cells.push((column, told, text));
                }
                if !cells.is_empty() {
                    take(row, &cells)?;
                }
            }
            Self::OpenDocument(range) => {
                let (top, left) = range.start().unwrap_or_default();
                for (row, values) in (top..).zip(range.rows()) {
                    cells.clear();
                    let filled = (left..).zip(values).filter_map(|(column, value)| {
                        let (told, text) = read(value)?;
                        Some((column, told, text))
                    });
                    cells.extend(filled);
                    if !cells.is_empty() && !take(row, &cells)? {
                        return Ok(());
                    }
                }
            }
        }
        Ok(())
    }

    fn last_row(&mut self) -> Option<u32> {
        match self {
            Self::OfficeOpenXml(_) => None,
            Self::OpenDocument(range) => range.end().map(|(row, _)| row),
        }
    }
}

/// A cell as text; none if it is empty.
fn read(value: &impl DataType) -> Option<(FieldKind, String)> {
    if value.is_empty() {
        return None;
    }
    if let Some(e) = value.get_error() {
        return Some((FieldKind::Failure, e.to_string()));
    }
    if let Some(text) = value.get_string() {
        return (!text.trim().is_empty()).then(|| (FieldKind::Text, text.to_owned()));
    }
    if let Some(x) = value.get_float() {
        return Some((FieldKind::Number, written_number(x)));
    }
    if let Some(n) = value.get_int() {
        return Some((FieldKind::Number, n.to_string()));
    }
    if let Some(b) = value.get_bool() {
        return Some((FieldKind::Nothing, b.to_string()));
    }
    if let Some(at) = value.get_datetime() {
        return Some(match at.as_datetime().filter(|_| at.is_datetime()) {
            Some(moment) if moment.time() == chrono::NaiveTime::MIN => (FieldKind::Day, moment.date().to_string()),
            Some(moment) => (FieldKind::Day, moment.format("%Y-%m-%dT%H:%M:%S").to_string()),
            None => (FieldKind::Number, written_number(at.as_f64())),
        });
    }
    if let Some(moment) = value.get_datetime_iso() {
        return Some((FieldKind::Day, moment.to_owned()));
    }
    value.get_duration_iso().map(|span| (FieldKind::Text, span.to_owned()))
}

fn damaged(e: impl std::fmt::Display) -> IntakeError {
    IntakeError::Damaged { what: format!("as a workbook it is broken ({e})") }
}
