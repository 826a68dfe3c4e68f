//! Whether an Arrow file can be as long as it says: its reader makes room for
//! what the lengths in the file ask for before it reads what they stand for.
//!
//! Follows “Serialization and Interprocess Communication” of the Arrow columnar
//! format: <https://arrow.apache.org/docs/format/Columnar.html>.

use std::io::{Read, Seek, SeekFrom};

use arrow_ipc::Message;

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
        let lengths = [block.offset(), i64::from(block.metaDataLength()), block.bodyLength()].map(u64::try_from);
        let [Ok(offset), Ok(head), Ok(body)] = lengths else { return Err(damaged("its footer makes no sense".into())) };
        let end = offset.checked_add(head).and_then(|begin| begin.checked_add(body));
        if end.is_none_or(|end| end > length) {
            return Err(damaged("its footer points beyond its end".into()));
        }
        source.seek(SeekFrom::Start(offset))?;
        let block = read_bytes(source, head + body)?;
        // Here it is the footer, not the message, that says how long its head is.
        let begin = if block.starts_with(&CONTINUES.to_le_bytes()) { 8 } else { 4 };
        let message = block.get(begin..).ok_or_else(short)?;
        check_batch(&parsed(message)?, block.get(head as usize..).unwrap_or_default())?;
    }
    source.rewind()?;
    Ok(())
}

/// Checks a stream: messages one after the other.
pub(super) fn check_stream(source: &mut (impl Read + Seek)) -> Result<(), IntakeError> {
    let length = source.seek(SeekFrom::End(0))?;
    source.rewind()?;
    while let Some(message) = read_message(source, length)? {
        let message = parsed(&message)?;
        let body = u64::try_from(message.bodyLength()).map_err(|_| short())?;
        if body > length - source.stream_position()?.min(length) {
            return Err(short());
        }
        check_batch(&message, &read_bytes(source, body)?)?;
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
    read_bytes(source, u64::from(size)).map(Some)
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

/// So many bytes, which are known to be there.
fn read_bytes(source: &mut impl Read, size: u64) -> Result<Vec<u8>, IntakeError> {
    let mut bytes = vec![0; size as usize];
    source.read_exact(&mut bytes).map_err(|_| short())?;
    Ok(bytes)
}

fn parsed(message: &[u8]) -> Result<Message<'_>, IntakeError> {
    arrow_ipc::root_as_message(message).map_err(|e| damaged(format!("one of its messages cannot be read ({e})")))
}

/// Checks that the buffers of a batch lie within its body, and unpack to what
/// can be held.
fn check_batch(message: &Message<'_>, body: &[u8]) -> Result<(), IntakeError> {
    let dictionary = message.header_as_dictionary_batch().and_then(|batch| batch.data());
    let Some(batch) = message.header_as_record_batch().or(dictionary) else { return Ok(()) };
    for buffer in batch.buffers().into_iter().flatten() {
        let range = usize::try_from(buffer.offset()).ok().zip(usize::try_from(buffer.length()).ok());
        let bytes = range.and_then(|(at, size)| body.get(at..at.checked_add(size)?));
        let bytes = bytes.ok_or_else(|| damaged("one of its columns points beyond its batch".into()))?;
        // A packed buffer begins with its length, or −1 if it is not packed after all.
        if batch.compression().is_some() && !bytes.is_empty() {
            let unpacked = bytes.first_chunk().map(|bytes| i64::from_le_bytes(*bytes));
            if unpacked.is_none_or(|size| !(-1..=MOST_UNPACKED).contains(&size)) {
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
