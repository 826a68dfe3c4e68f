//! One record of delimited text at a time, wherever quotes open and close in it.

use std::borrow::Cow;

use csv_core::{ReadRecordResult, Reader, ReaderBuilder};

use super::{LONGEST_FIELD, MOST_COLUMNS};

/// A record longer than this has a field that is too long.
const LONGEST: usize = (MOST_COLUMNS + 1) * LONGEST_FIELD;

/// The record that is being read.
pub(super) struct Quoted {
    reader: Reader,
    /// Its fields without quotes, one after the other, and room for more.
    bytes: Vec<u8>,
    written: usize,
    /// Where every field ends in the bytes, and room for more.
    ends: Vec<usize>,
    fields: usize,
    endless: bool,
}

impl Quoted {
    /// Records with these between and around the fields.
    pub fn new(delimiter: u8, quote: u8) -> Self {
        let reader = ReaderBuilder::new().delimiter(delimiter).quote(quote).build();
        Self { reader, bytes: vec![0; 4_096], written: 0, ends: vec![0; 64], fields: 0, endless: false }
    }

    /// Begins another record.
    pub fn clear(&mut self) {
        (self.written, self.fields, self.endless) = (0, 0, false);
    }

    /// Takes bytes of the record, which is over at the end of the source if
    /// there are none; how many belong to it, and whether it is whole by now.
    pub fn take(&mut self, input: &[u8]) -> (usize, bool) {
        let mut used = 0;
        loop {
            let (bytes, ends) = (&mut self.bytes[self.written..], &mut self.ends[self.fields..]);
            let (result, taken, written, fields) = self.reader.read_record(&input[used..], bytes, ends);
            used += taken;
            self.written += written;
            self.fields += fields;
            match result {
                ReadRecordResult::InputEmpty | ReadRecordResult::End => return (used, false),
                ReadRecordResult::Record => return (used, true),
                ReadRecordResult::OutputFull if self.bytes.len() > LONGEST => {
                    // It only matters any more where it ends.
                    (self.written, self.fields, self.endless) = (0, 0, true);
                }
                ReadRecordResult::OutputFull => self.bytes.resize(self.bytes.len() * 2, 0),
                ReadRecordResult::OutputEndsFull => self.ends.resize(self.ends.len() * 2, 0),
            }
            // Nothing left to take is not the end of the source.
            if used == input.len() && !input.is_empty() {
                return (used, false);
            }
        }
    }

    /// Whether it is longer than any record can be; its fields are not kept then.
    pub fn is_endless(&self) -> bool {
        self.endless
    }

    /// The fields; what is not UTF-8 in them is replaced.
    pub fn fields(&self) -> impl Iterator<Item = Cow<'_, str>> {
        let begins = std::iter::once(0).chain(self.ends.iter().copied());
        let ends = &self.ends[..if self.endless { 0 } else { self.fields }];
        begins.zip(ends).map(|(begin, &end)| String::from_utf8_lossy(&self.bytes[begin..end]))
    }
}
