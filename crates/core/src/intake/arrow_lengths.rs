//! Whether an Arrow file can be as long as it says: its reader makes room for
//! what the lengths in the file ask for before it reads what they stand for.
//!
//! Follows “Serialization and Interprocess Communication” of the Arrow columnar
//! format: <https://arrow.apache.org/docs/format/Columnar.html>.

use std::io::{Read, Seek, SeekFrom};

use arrow_ipc::{Message, RecordBatch};

use super::IntakeError;

/// What stands before the length of a message, except in files of old.
const CONTINUES: u32 = u32::MAX;

/// What one buffer may unpack to, in bytes.
const MOST_UNPACKED: i64 = 1 << 30;

/// Checks a file, all of whose messages are listed in a footer at its end.
pub(super) fn check_file(source: &mut (impl Read + Seek)) -> Result<(), IntakeError> {
    const TAIL: u64 = 10;
    let length = source.seek(SeekFrom::End(0))?;
    let mut tail = [0; TAIL as usize];
    source.seek(SeekFrom::Start(length.checked_sub(TAIL).ok_or_else(short)?))?;
    source.read_exact(&mut tail)?;
    let size = u64::from(u32::from_le_bytes([tail[0], tail[1], tail[2], tail[3]]));
    let begin = length.checked_sub(TAIL + size).filter(|_| tail.ends_with(b"ARROW1")).ok_or_else(short)?;
    let mut footer = vec![0; size as usize];
    source.seek(SeekFrom::Start(begin))?;
    source.read_exact(&mut footer)?;
    let footer = arrow_ipc::root_as_footer(&footer).map_err(|e| damaged(format!("its footer cannot be read ({e})")))?;
    let blocks = footer.recordBatches().into_iter().chain(footer.dictionaries()).flatten();
    for block in blocks {
        let parts = [block.offset(), i64::from(block.metaDataLength()), block.bodyLength()];
        let end = parts.into_iter().try_fold(0u64, |sum, part| sum.checked_add(u64::try_from(part).ok()?));
        if end.is_none_or(|end| end > length) {
            return Err(damaged("its footer points beyond its end".into()));
        }
        source.seek(SeekFrom::Start(block.offset().unsigned_abs()))?;
        if let Some(message) = read_message(source, length)? {
            check_body(source, &message, length)?;
        }
    }
    source.rewind()?;
    Ok(())
}

/// Checks a stream: messages one after the other.
pub(super) fn check_stream(source: &mut (impl Read + Seek)) -> Result<(), IntakeError> {
    let length = source.seek(SeekFrom::End(0))?;
    source.rewind()?;
    while let Some(message) = read_message(source, length)? {
        let after = check_body(source, &message, length)?;
        source.seek(SeekFrom::Start(after))?;
    }
    source.rewind()?;
    Ok(())
}

/// The bytes of the message that begins here; none at the end of the stream.
fn read_message(source: &mut (impl Read + Seek), length: u64) -> Result<Option<Vec<u8>>, IntakeError> {
    let mut size = read_size(source, length)?;
    if size == Some(CONTINUES) {
        size = read_size(source, length)?;
    }
    let Some(size) = size.filter(|size| *size > 0) else { return Ok(None) };
    if u64::from(size) > length - source.stream_position()?.min(length) {
        return Err(short());
    }
    let mut message = vec![0; size as usize];
    source.read_exact(&mut message)?;
    Ok(Some(message))
}

/// Four bytes as a number; none if nothing follows any more.
fn read_size(source: &mut (impl Read + Seek), length: u64) -> Result<Option<u32>, IntakeError> {
    if source.stream_position()? == length {
        return Ok(None);
    }
    let mut bytes = [0; 4];
    source.read_exact(&mut bytes).map_err(|_| short())?;
    Ok(Some(u32::from_le_bytes(bytes)))
}

/// Checks what follows a message, which begins here; where it ends.
fn check_body(source: &mut (impl Read + Seek), message: &[u8], length: u64) -> Result<u64, IntakeError> {
    let message: Message<'_> = arrow_ipc::root_as_message(message)
        .map_err(|e| damaged(format!("one of its messages cannot be read ({e})")))?;
    let begin = source.stream_position()?;
    let body = u64::try_from(message.bodyLength()).ok();
    let end = body.and_then(|body| begin.checked_add(body)).filter(|end| *end <= length).ok_or_else(short)?;
    let dictionary = message.header_as_dictionary_batch().and_then(|batch| batch.data());
    if let Some(batch) = message.header_as_record_batch().or(dictionary) {
        check_buffers(source, &batch, begin, end)?;
    }
    Ok(end)
}

/// Checks that buffers lie within the body, and unpack to what can be held.
fn check_buffers(
    source: &mut (impl Read + Seek),
    batch: &RecordBatch<'_>,
    begin: u64,
    end: u64,
) -> Result<(), IntakeError> {
    let beyond = || damaged("one of its columns points beyond its batch".into());
    for buffer in batch.buffers().into_iter().flatten() {
        let size = u64::try_from(buffer.length()).map_err(|_| beyond())?;
        let at = u64::try_from(buffer.offset()).ok().and_then(|offset| begin.checked_add(offset)).ok_or_else(beyond)?;
        if at.checked_add(size).is_none_or(|last| last > end) {
            return Err(beyond());
        }
        // A packed buffer begins with its length, or −1 if it is not packed after all.
        if batch.compression().is_some() && size > 0 {
            let mut bytes = [0; 8];
            source.seek(SeekFrom::Start(at))?;
            source.read_exact(&mut bytes).map_err(|_| short())?;
            if !(-1..=MOST_UNPACKED).contains(&i64::from_le_bytes(bytes)) {
                return Err(damaged("one of its columns unpacks to more than can be held".into()));
            }
        }
    }
    Ok(())
}

fn short() -> IntakeError {
    damaged("it is cut off before its end".into())
}

fn damaged(what: String) -> IntakeError {
    IntakeError::Damaged { what }
}
