//! Parts of archives that are written anew, and small archives made in memory: demo builds and test material.

use flate2::{Compress, Compression, FlushCompress, Status};

use super::{DEFLATED, Entry, FLAG_UTF8, STORED};

/// The date that every entry gets, so that the same input gives the same bytes: 1 January 1980.
pub(super) const DATE: u16 = 0x0021;

/// Collects entries and gives the archive's bytes.
#[derive(Debug, Default)]
pub struct Writer {
    body: Vec<u8>,
    directory: Vec<u8>,
    count: u16,
}

impl Writer {
    /// An archive without entries.
    pub fn new() -> Self {
        Self::default()
    }

    /// Adds an entry as it is.
    #[must_use]
    pub fn stored(self, name: &str, content: &[u8]) -> Self {
        self.entry(name, STORED, content, content)
    }

    /// Adds an entry compressed with deflate.
    #[must_use]
    pub fn deflated(self, name: &str, content: &[u8]) -> Self {
        match deflate(content) {
            Some(data) => self.entry(name, DEFLATED, content, &data),
            None => self.stored(name, content),
        }
    }

    fn entry(mut self, name: &str, method: u16, content: &[u8], data: &[u8]) -> Self {
        let header_at = self.body.len() as u32;
        let flags = if name.is_ascii() { 0 } else { FLAG_UTF8 };
        let mut shared = Vec::new();
        for field in [20u16, flags, method, 0, DATE] {
            shared.extend_from_slice(&field.to_le_bytes());
        }
        for field in [crc32fast::hash(content), data.len() as u32, content.len() as u32] {
            shared.extend_from_slice(&field.to_le_bytes());
        }
        shared.extend_from_slice(&(name.len() as u16).to_le_bytes());
        shared.extend_from_slice(&[0, 0]);
        self.body.extend_from_slice(b"PK\x03\x04");
        self.body.extend_from_slice(&shared);
        self.body.extend_from_slice(name.as_bytes());
        self.body.extend_from_slice(data);
        self.directory.extend_from_slice(b"PK\x01\x02\x14\0");
        self.directory.extend_from_slice(&shared);
        self.directory.extend_from_slice(&[0; 10]);
        self.directory.extend_from_slice(&header_at.to_le_bytes());
        self.directory.extend_from_slice(name.as_bytes());
        self.count += 1;
        self
    }

    /// The archive.
    pub fn finish(self) -> Vec<u8> {
        let Writer { mut body, directory, count } = self;
        let at = body.len() as u32;
        body.extend_from_slice(&directory);
        body.extend_from_slice(&end_record(count, directory.len() as u32, at));
        body
    }
}

/// An end record without comment, for a directory of `size` bytes at `at`.
pub fn end_record(count: u16, size: u32, at: u32) -> Vec<u8> {
    let mut out = Vec::with_capacity(22);
    out.extend_from_slice(b"PK\x05\x06\0\0\0\0");
    out.extend_from_slice(&count.to_le_bytes());
    out.extend_from_slice(&count.to_le_bytes());
    out.extend_from_slice(&size.to_le_bytes());
    out.extend_from_slice(&at.to_le_bytes());
    out.extend_from_slice(&[0, 0]);
    out
}

/// A compressed entry of its own, and its data.
pub(super) fn entry_of(name: &str, content: &[u8]) -> (Entry, Vec<u8>) {
    let (method, data) = match deflate(content) {
        Some(data) => (DEFLATED, data),
        None => (STORED, content.to_vec()),
    };
    let entry = Entry {
        name: name.as_bytes().to_vec(),
        versions: (20, 20),
        flags: if name.is_ascii() { 0 } else { FLAG_UTF8 },
        method,
        modified: (0, DATE),
        crc: crc32fast::hash(content),
        compressed: data.len() as u64,
        size: content.len() as u64,
        attributes: (0, 0),
        comment: Vec::new(),
        zip64: false,
        header_at: 0,
        data_at: 0,
        ends_at: 0,
    };
    (entry, data)
}

/// How hard it is compressed: what most writers do.
const LEVEL: u32 = 6;

/// A part of a file, compressed by itself so that several can be at once: parts one behind the other are the whole. The last
/// one says so. Nothing when it cannot be compressed.
pub fn deflate_part(content: &[u8], is_last: bool) -> Option<Vec<u8>> {
    // what can hardly be made smaller is not worth the effort
    let sample = content.get(..SAMPLE).unwrap_or(content);
    let quick = deflate_at(QUICK, sample, true)?.len() as u64;
    let little = quick > sample.len() as u64 * WORTH.0 / WORTH.1;
    deflate_at(if little { NOT_AT_ALL } else { LEVEL }, content, is_last)
}

/// A level that costs little, and what has to come of it for the usual one to be worth its time: nine tenths or less.
const QUICK: u32 = 1;
const NOT_AT_ALL: u32 = 0;
/// How much of a part it is tried on.
const SAMPLE: usize = 64 << 10;
const WORTH: (u64, u64) = (9, 10);

fn deflate_at(level: u32, content: &[u8], is_last: bool) -> Option<Vec<u8>> {
    let mut compressor = Compress::new(Compression::new(level), false);
    let mut out = Vec::with_capacity(most_deflated(content.len() as u64) as usize);
    let flush = if is_last { FlushCompress::Finish } else { FlushCompress::Sync };
    let status = compressor.compress_vec(content, &mut out, flush).ok()?;
    let done = match is_last {
        true => status == Status::StreamEnd,
        false => compressor.total_in() == content.len() as u64 && out.len() < out.capacity(),
    };
    done.then_some(out)
}

/// The most bytes that a part has when it is compressed: nine bits for each of eight, where the quick level guesses wrongly.
pub fn most_deflated(length: u64) -> u64 {
    length + length / 7 + 256
}

fn deflate(content: &[u8]) -> Option<Vec<u8>> {
    let mut compressor = Compress::new(Compression::new(LEVEL), false);
    let mut out = Vec::with_capacity(content.len() + 64);
    match compressor.compress_vec(content, &mut out, FlushCompress::Finish) {
        Ok(Status::StreamEnd) => Some(out),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use flate2::{Decompress, FlushDecompress};

    use super::*;

    #[test]
    fn parts_one_behind_the_other_are_the_whole() {
        // text, what looks like noise, and nothing
        let noise: Vec<u8> =
            (0..100_000u64).map(|n| (n.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 40) as u8).collect();
        let parts = [b"ferry and pier ".repeat(5_000), noise, Vec::new(), vec![7; 10]];
        let last = parts.len() - 1;
        let packed: Vec<u8> = parts
            .iter()
            .enumerate()
            .flat_map(|(index, part)| deflate_part(part, index == last).unwrap())
            .collect();
        let whole = parts.concat();
        let mut out = Vec::with_capacity(whole.len() + 1);
        let status = Decompress::new(false).decompress_vec(&packed, &mut out, FlushDecompress::Finish);
        assert_eq!(status.unwrap(), Status::StreamEnd);
        assert!(out == whole);
        assert!(packed.len() < whole.len());
    }
}
