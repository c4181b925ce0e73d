//! Zip archives as builds use them: no encryption, one disk, methods 0 and 8; zip64 where the kind of build has it.
//!
//! [`Archive::open`] reads strictly; [`Outline`] does so in two steps, for archives that have something of their own between
//! entries and directory. What keeps an archive from being walked at all is a [`ZipError`]; what
//! can be walked but would be refused by a device, or be read differently by two readers, is kept in
//! [`Archive::faults`], one [`ZipFault`] each, so that a check can name all of them. [`rewrite`] lays out a
//! copy with aligned entries without touching the compressed bytes.

mod fault;
mod local;
mod open;
mod read;
pub mod rewrite;
pub mod write;

use std::ops::Range;

pub use fault::{EntryFault, ZipError, ZipFault};
pub use open::Outline;

use crate::limits::Limits;
use crate::source::Source;

/// The upper half of what an entry was made by: a Unix.
const UNIX: u16 = 3;

/// Stored, not compressed.
pub const STORED: u16 = 0;
/// Compressed with deflate.
pub const DEFLATED: u16 = 8;
/// General purpose flag bit 3: sizes and checksum follow the data.
pub(crate) const FLAG_DESCRIPTOR: u16 = 1 << 3;
/// General purpose flag bit 11: the name is UTF-8.
pub const FLAG_UTF8: u16 = 1 << 11;

/// What is made of sizes and offsets that only zip64 can hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Zip64 {
    /// They are read.
    Read,
    /// They are a fault: the devices that the archive is for do not read them.
    Refuse,
}

/// One entry, as the central directory states it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The name's bytes, as they stand.
    pub name: Vec<u8>,
    /// Version made by, version needed.
    pub versions: (u16, u16),
    /// General purpose flags.
    pub flags: u16,
    /// Compression method.
    pub method: u16,
    /// DOS time and date.
    pub modified: (u16, u16),
    /// CRC-32 of the uncompressed content.
    pub crc: u32,
    /// Bytes in the archive.
    pub compressed: u64,
    /// Bytes when inflated.
    pub size: u64,
    /// Internal and external attributes.
    pub attributes: (u16, u32),
    /// The comment's bytes.
    pub comment: Vec<u8>,
    /// Whether a size or its offset stands in the extra field of zip64.
    pub zip64: bool,
    /// Offset of the local header.
    pub header_at: u64,
    /// Offset of the first data byte.
    pub data_at: u64,
    /// Offset of the first byte after the data and its descriptor.
    pub ends_at: u64,
}

impl Entry {
    /// The name as text; bytes that are not UTF-8 are replaced.
    pub fn name_text(&self) -> String {
        String::from_utf8_lossy(&self.name).into_owned()
    }

    /// An entry without content, as a Unix makes it, of 1 January 1980: `mode` is its type and its rights.
    pub fn made_by_unix(name: &str, mode: u32) -> Entry {
        Entry {
            name: name.as_bytes().to_vec(),
            versions: (UNIX << 8 | 20, 20),
            flags: if name.is_ascii() { 0 } else { FLAG_UTF8 },
            method: STORED,
            modified: (0, write::DATE),
            crc: 0,
            compressed: 0,
            size: 0,
            attributes: (0, mode << 16),
            comment: Vec::new(),
            zip64: false,
            header_at: 0,
            data_at: 0,
            ends_at: 0,
        }
    }

    /// Its type and its rights, where a Unix made it.
    pub fn unix_mode(&self) -> Option<u32> {
        (self.versions.0 >> 8 == UNIX).then_some(self.attributes.1 >> 16)
    }

    /// Whether the name ends in a slash.
    pub fn is_directory(&self) -> bool {
        self.name.last() == Some(&b'/')
    }

    /// Gives the content to `take`, a window at a time, until it wants no more: for entries of any size. `source` is what the
    /// offsets are of.
    ///
    /// # Errors
    /// [`ZipError`] when it uses an unknown method or does not inflate to what the entry says.
    pub fn stream(&self, source: &dyn Source, take: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), ZipError> {
        read::stream(source, self, take)
    }

    /// Where the data stands in the archive.
    pub fn data(&self) -> Range<u64> {
        self.data_at..self.data_at.saturating_add(self.compressed)
    }
}

/// An archive that could be walked.
#[derive(Debug, Clone)]
pub struct Archive {
    /// The entries in the order of the central directory.
    pub entries: Vec<Entry>,
    /// Where the entries end: at the directory, or at what stands before it.
    pub body_end: u64,
    /// Where the central directory stands.
    pub directory: Range<u64>,
    /// Where the end record stands, its comment included.
    pub end_record: Range<u64>,
    /// What is malformed.
    pub faults: Vec<ZipFault>,
}

impl Archive {
    /// Walks the archive: end record, central directory, every local header.
    ///
    /// # Errors
    /// [`ZipError`] when it is not an archive, is cut short or cannot be read.
    pub fn open(source: &dyn Source, zip64: Zip64, limits: &Limits) -> Result<Archive, ZipError> {
        Outline::read(source, zip64)?.archive(source, None, limits)
    }

    /// The first entry of that name.
    pub fn find(&self, name: &[u8]) -> Option<&Entry> {
        self.entries.iter().find(|entry| entry.name == name)
    }

    /// Whether every entry can be read, with work in proportion to the file: each is inside of it, none shares its bytes
    /// with another, and together they do not hold more than any package does.
    pub fn is_readable_whole(&self) -> bool {
        use ZipFault as F;
        let stops = |fault: &ZipFault| {
            matches!(fault, F::Overlap(..) | F::Inflates { .. } | F::DataOutside(_) | F::NoLocalHeader(_))
        };
        !self.faults.iter().any(stops)
    }

    /// The content of `entry`, inflated and its checksum compared.
    ///
    /// # Errors
    /// [`ZipError`] when it is larger than the limit, uses an unknown method, or does not inflate to what
    /// the directory says.
    pub fn read(&self, source: &dyn Source, entry: &Entry, limits: &Limits) -> Result<Vec<u8>, ZipError> {
        read::read(source, entry, limits)
    }
}

#[cfg(test)]
mod tests;
