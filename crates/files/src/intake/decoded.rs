//! Text of a file as UTF-8, a piece at a time.

use std::io::{self, Read};

use encoding_rs_io::{DecodeReaderBytes, DecodeReaderBytesBuilder};

/// About how many bytes are read at a time.
const PIECE: usize = 512 * 1024;

/// A source of text, in whatever encoding, with what was read of it and is still wanted.
pub(super) struct Decoded<R: Read> {
    source: DecodeReaderBytes<R, Vec<u8>>,
    bytes: Vec<u8>,
    /// Of the bytes, so many are done with.
    done: usize,
    passed: u64,
}

impl<R: Read> Decoded<R> {
    /// Text in the encoding of that name; a byte order mark says it better.
    pub fn new(source: R, encoding: &str) -> Self {
        let encoding = encoding_rs::Encoding::for_label(encoding.as_bytes());
        let source = DecodeReaderBytesBuilder::new()
            .encoding(encoding.filter(|e| *e != encoding_rs::UTF_8))
            .strip_bom(true)
            .bom_override(true)
            .build_with_buffer(source, vec![0; PIECE])
            .unwrap_or_else(|_| unreachable!("the buffer is larger than a character"));
        Self { source, bytes: Vec::new(), done: 0, passed: 0 }
    }

    /// What was read and not passed; not every byte of it need be UTF-8.
    pub fn pending(&self) -> &[u8] {
        &self.bytes[self.done..]
    }

    /// Is done with so many bytes of what is pending.
    pub fn pass(&mut self, bytes: usize) {
        self.done += bytes;
        self.passed += bytes as u64;
    }

    /// Bytes passed since the beginning.
    pub fn passed(&self) -> u64 {
        self.passed
    }

    /// Adds to what is pending; whether there was more.
    ///
    /// # Errors
    /// Those of the source.
    pub fn more(&mut self) -> io::Result<bool> {
        self.bytes.drain(..self.done);
        self.done = 0;
        let before = self.bytes.len();
        self.source.by_ref().take(PIECE as u64).read_to_end(&mut self.bytes)?;
        Ok(self.bytes.len() > before)
    }
}
