//! What is in a zip archive, looked at before anything trusts it.

use std::io::{self, BufReader, Read, Seek};

use quick_xml::events::Event;
use zip::ZipArchive;

use super::IntakeError;

/// The most that all parts of a workbook may unpack to, in bytes.
const MOST_UNPACKED: u64 = 2 << 30;

/// The most that a part may unpack to that has to be held in memory whole.
const MOST_HELD: u64 = 512 << 20;

/// Unpacked bytes per packed byte that no honest sheet reaches.
const STEEPEST: u64 = 400;

/// The part of an OpenDocument that holds its sheets.
const CONTENT: &str = "content.xml";

/// Below this, steepness means nothing, in bytes.
const SMALL: u64 = 32 << 20;

/// The kinds of workbook.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Archive {
    /// Office Open XML (ECMA-376).
    OfficeOpenXml,
    /// OpenDocument (ISO/IEC 26300).
    OpenDocument,
}

/// Tells which kind of workbook an archive is, and unpacks every part into
/// nothing to see how large it really is: what an archive declares about
/// itself is not believed.
///
/// # Errors
/// [`IntakeError::NotText`] for other archives, [`IntakeError::Swollen`] for
/// one that unpacks to more than a workbook does, [`IntakeError::Damaged`].
pub(super) fn look(source: &mut (impl Read + Seek)) -> Result<Archive, IntakeError> {
    source.rewind()?;
    let mut archive = ZipArchive::new(&mut *source).map_err(damaged)?;
    let kind = if archive.index_for_name("xl/workbook.xml").is_some() {
        Archive::OfficeOpenXml
    } else if archive.index_for_name(CONTENT).is_some() {
        Archive::OpenDocument
    } else {
        return Err(IntakeError::NotText { what: "it is a zip archive and not a workbook; unpack it first".into() });
    };
    let mut all = 0;
    for at in 0..archive.len() {
        let part = archive.by_index(at).map_err(damaged)?;
        let name = part.name().map_err(damaged)?.into_owned();
        let held = name == CONTENT || name == "xl/sharedStrings.xml";
        let packed = part.compressed_size().max(1);
        let steep = packed.saturating_mul(STEEPEST).max(SMALL);
        let most = steep.min(if held { MOST_HELD } else { MOST_UNPACKED }).min(MOST_UNPACKED - all);
        let unpacked = io::copy(&mut part.take(most + 1), &mut io::sink())
            .map_err(|e| IntakeError::Damaged { what: format!("its part {name} does not unpack ({e})") })?;
        if unpacked > most {
            return Err(IntakeError::Swollen { part: name });
        }
        all += unpacked;
    }
    if kind == Archive::OpenDocument {
        check_tags(archive.by_name(CONTENT).map_err(damaged)?)?;
    }
    source.rewind()?;
    Ok(kind)
}

/// Makes sure that every tag of a document is closed in its turn: the reader of
/// sheets looks for the end of a table for ever.
fn check_tags(part: impl Read) -> Result<(), IntakeError> {
    let broken = |what: String| IntakeError::Damaged { what: format!("its part {CONTENT} is broken ({what})") };
    let mut reader = quick_xml::Reader::from_reader(BufReader::new(part));
    let (mut event, mut open) = (Vec::new(), 0u64);
    loop {
        match reader.read_event_into(&mut event).map_err(|e| broken(e.to_string()))? {
            Event::Start(_) => open += 1,
            Event::End(_) => open -= 1,
            Event::Eof if open > 0 => return Err(broken("it is cut off before its end".into())),
            Event::Eof => return Ok(()),
            _ => {}
        }
        event.clear();
    }
}

fn damaged(e: zip::result::ZipError) -> IntakeError {
    IntakeError::Damaged { what: format!("as an archive it is broken ({e})") }
}
