//! One JSON object a line (“JSON lines”, “newline-delimited JSON”).

use std::collections::HashMap;
use std::io::{BufRead, BufReader, Read};

use serde_json::{Map, Value};

use super::block::{RowBlock, RowSink, RowSource};
use super::field::FieldKind;
use super::misfit::MisfitKind;
use super::{IntakeError, MOST_COLUMNS};

/// The longest line, in bytes.
const LONGEST_LINE: u64 = 4 << 20;

/// How deep objects in objects are taken apart.
const DEEPEST: usize = 8;

/// Whether the first line of a file is a JSON object, or begins like one.
pub(super) fn begins_like(head: &[u8]) -> bool {
    let head = head.strip_prefix(b"\xef\xbb\xbf").unwrap_or(head);
    let mut lines = head.split(|&b| b == b'\n').map(<[u8]>::trim_ascii).filter(|l| !l.is_empty());
    let Some(first) = lines.next() else { return false };
    first.starts_with(b"{")
        && (serde_json::from_slice::<Map<String, Value>>(first).is_ok() || first.starts_with(b"{\""))
}

/// A file of JSON lines.
pub(super) struct JsonLinesReader<R> {
    source: BufReader<R>,
    keys: Vec<String>,
    places: HashMap<String, usize>,
}

impl<R: Read> JsonLinesReader<R> {
    /// Opens a file; `keys` are those that are known to be in it already.
    pub fn open(source: R, keys: Vec<String>) -> Result<Self, IntakeError> {
        let places = keys.iter().enumerate().map(|(i, k)| (k.clone(), i)).collect();
        Ok(Self { source: BufReader::with_capacity(128 * 1024, source), keys, places })
    }

    /// Puts the values of an object into the places of their keys.
    fn place(
        &mut self,
        object: Map<String, Value>,
        within: &str,
        depth: usize,
        cells: &mut Vec<Option<(String, FieldKind)>>,
    ) -> Result<(), IntakeError> {
        for (key, value) in object {
            let key = if within.is_empty() { key } else { format!("{within}.{key}") };
            let cell = match value {
                Value::Null => continue,
                Value::Object(inner) if depth < DEEPEST => {
                    self.place(inner, &key, depth + 1, cells)?;
                    continue;
                }
                Value::Bool(b) => (b.to_string(), FieldKind::Nothing),
                Value::Number(n) => (n.to_string(), FieldKind::Number),
                Value::String(s) => (s, FieldKind::Text),
                nested @ (Value::Array(_) | Value::Object(_)) => (nested.to_string(), FieldKind::Text),
            };
            let at = match self.places.get(&key) {
                Some(&at) => at,
                None => {
                    let at = self.keys.len();
                    if at == MOST_COLUMNS {
                        return Err(IntakeError::TooManyColumns { found: at + 1 });
                    }
                    self.keys.push(key.clone());
                    self.places.insert(key, at);
                    at
                }
            };
            if cells.len() <= at {
                cells.resize(at + 1, None);
            }
            cells[at] = Some(cell);
        }
        Ok(())
    }
}

impl<R: Read> RowSource for JsonLinesReader<R> {
    fn names(&self) -> &[String] {
        &self.keys
    }

    fn length(&self) -> u64 {
        0
    }

    fn each(&mut self, take: &mut RowSink) -> Result<(), IntakeError> {
        let mut block = RowBlock::default();
        let (mut line, mut passed) = (0, 0);
        let mut bytes = Vec::new();
        loop {
            bytes.clear();
            let read = self.source.by_ref().take(LONGEST_LINE).read_until(b'\n', &mut bytes)? as u64;
            if read == 0 {
                return block.hand_over(take);
            }
            line += 1;
            passed += read;
            let text = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&bytes).trim_ascii();
            if text.is_empty() {
                continue;
            }
            block.begin(line);
            let stood = || String::from_utf8_lossy(text).chars().take(2_000).collect::<String>();
            match serde_json::from_slice::<Value>(text) {
                Ok(Value::Object(object)) => {
                    let mut cells = vec![None; self.keys.len()];
                    self.place(object, "", 0, &mut cells)?;
                    for cell in &cells {
                        let (text, told) = cell.as_ref().map_or(("", FieldKind::Nothing), |(text, told)| (text, *told));
                        block.push(text, told);
                    }
                    block.keep();
                }
                Ok(_) => block.reject(MisfitKind::NoObject, stood()),
                Err(e) => {
                    let what = if read == LONGEST_LINE && !bytes.ends_with(b"\n") {
                        // What is left of the line belongs to it.
                        passed += pass_line(&mut self.source)?;
                        "it is longer than 4 MB".to_owned()
                    } else {
                        format!("{} at character {}", plain(&e), e.column())
                    };
                    block.reject(MisfitKind::NoJson { what }, stood());
                }
            }
            block.passed = passed;
            block.hand_on(take)?;
        }
    }
}

/// Passes over the rest of a line; the bytes passed.
fn pass_line(source: &mut impl BufRead) -> std::io::Result<u64> {
    let mut passed = 0;
    loop {
        let (piece, at) = {
            let buffer = source.fill_buf()?;
            (buffer.len(), buffer.iter().position(|&b| b == b'\n'))
        };
        let used = at.map_or(piece, |at| at + 1);
        source.consume(used);
        passed += used as u64;
        if piece == 0 || at.is_some() {
            return Ok(passed);
        }
    }
}

/// The message of the parser without the place, which is said in our own words.
fn plain(e: &serde_json::Error) -> String {
    let text = e.to_string();
    text.split(" at line ").next().unwrap_or(&text).to_owned()
}
