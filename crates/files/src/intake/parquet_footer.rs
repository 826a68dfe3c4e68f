//! What the footer of a Parquet file says of its own lists, before a reader believes it.
//!
//! The footer is one struct in Thrift's compact form. A list that declares more
//! entries than there are bytes left would be gone through entry by entry, a
//! thousand million times if need be; every entry takes at least a byte, so that
//! a look at the lengths is enough.

use std::io::{Read, Seek, SeekFrom};

use super::IntakeError;

/// What a Parquet file ends with.
const MAGIC: &[u8] = b"PAR1";

/// Structs within structs, at most; a real footer has five.
const DEEPEST: usize = 32;

/// Checks the footer of a file, if it is one of Parquet's.
///
/// # Errors
/// [`IntakeError::Damaged`] if a list is longer than the footer, or the footer
/// ends before it is over.
pub(super) fn check<R: Read + Seek>(source: &mut R) -> Result<(), IntakeError> {
    let length = source.seek(SeekFrom::End(0))?;
    let Some(tail) = length.checked_sub(8) else { return Ok(()) };
    let mut end = [0u8; 8];
    source.seek(SeekFrom::Start(tail))?;
    source.read_exact(&mut end)?;
    let [a, b, c, d, ..] = end;
    let footer = u64::from(u32::from_le_bytes([a, b, c, d]));
    // Whatever else is wrong with it, the reader says so itself.
    if &end[4..] != MAGIC || footer > tail {
        return Ok(());
    }
    source.seek(SeekFrom::Start(tail - footer))?;
    let mut bytes = vec![0; footer as usize];
    source.read_exact(&mut bytes)?;
    Footer { left: &bytes }.structure(0).map_err(|what| IntakeError::Damaged { what: what.into() })?;
    Ok(source.seek(SeekFrom::Start(0)).map(|_| ())?)
}

/// What is left of a footer.
struct Footer<'a> {
    left: &'a [u8],
}

impl Footer<'_> {
    fn structure(&mut self, depth: usize) -> Result<(), &'static str> {
        if depth > DEEPEST {
            return Err("its footer is nested without end");
        }
        loop {
            let head = self.byte()?;
            if head == 0 {
                return Ok(());
            }
            // A field is numbered on from the one before it, or its number is written out.
            if head >> 4 == 0 {
                self.varint()?;
            }
            match head & 0x0f {
                // Whether a field is true stands in its head.
                1 | 2 => {}
                kind => self.value(kind, depth)?,
            }
        }
    }

    fn value(&mut self, kind: u8, depth: usize) -> Result<(), &'static str> {
        match kind {
            1..=3 => self.pass(1),
            4..=6 => self.varint().map(|_| ()),
            7 => self.pass(8),
            8 => {
                let length = self.varint()?;
                self.pass(length)
            }
            9 | 10 => {
                let head = self.byte()?;
                let entries = if head >> 4 == 15 { self.varint()? } else { u64::from(head >> 4) };
                self.entries(entries, &[head & 0x0f], depth)
            }
            11 => {
                let entries = self.varint()?;
                let kinds = if entries == 0 { 0 } else { self.byte()? };
                self.entries(entries, &[kinds >> 4, kinds & 0x0f], depth)
            }
            12 => self.structure(depth + 1),
            13 => self.pass(16),
            _ => Err("its footer holds what is no value"),
        }
    }

    fn entries(&mut self, entries: u64, kinds: &[u8], depth: usize) -> Result<(), &'static str> {
        if entries > self.left.len() as u64 {
            return Err("a list in its footer is longer than the footer");
        }
        for _ in 0..entries {
            kinds.iter().try_for_each(|&kind| self.value(kind, depth + 1))?;
        }
        Ok(())
    }

    fn byte(&mut self) -> Result<u8, &'static str> {
        let (first, rest) = self.left.split_first().ok_or("its footer is cut short")?;
        self.left = rest;
        Ok(*first)
    }

    fn varint(&mut self) -> Result<u64, &'static str> {
        let mut value = 0u64;
        for at in 0..10 {
            let byte = self.byte()?;
            value |= u64::from(byte & 0x7f) << (7 * at).min(63);
            if byte & 0x80 == 0 {
                return Ok(value);
            }
        }
        Err("a number in its footer does not end")
    }

    fn pass(&mut self, bytes: u64) -> Result<(), &'static str> {
        let bytes = usize::try_from(bytes).ok().filter(|&n| n <= self.left.len()).ok_or("its footer is cut short")?;
        self.left = &self.left[bytes..];
        Ok(())
    }
}
