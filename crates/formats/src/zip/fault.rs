//! What can be wrong with an archive.

use thiserror::Error;

use crate::cursor::ParseError;
use crate::source::ReadError;

/// Why an archive could not be walked at all.
#[derive(Debug, Error)]
pub enum ZipError {
    /// Nothing in it.
    #[error("the file is empty")]
    Empty,
    /// No end record in the last 64 KiB.
    #[error("it is not a zip archive: no end record in its last 64 KiB")]
    NotAnArchive,
    /// The end record or the directory runs past the end of the file.
    #[error("the archive is cut short: its directory does not fit into the file")]
    Truncated,
    /// A structure of the directory cannot be read.
    #[error("the archive's directory is damaged: {0}")]
    Directory(#[from] ParseError),
    /// One entry's content is not what the directory says.
    #[error("the entry {name} is damaged: {fault}")]
    Entry {
        /// The entry's name.
        name: String,
        /// What is wrong with it.
        fault: EntryFault,
    },
    /// The system could not read the file.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// Whoever took the content wanted no more of it.
    #[error("stopped on request")]
    Stopped,
}

/// What can be wrong with the content of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum EntryFault {
    /// A method other than stored and deflate.
    #[error("compression method {0} is not used in packages")]
    Method(u16),
    /// Larger than what is read into memory.
    #[error("{said} bytes are above the limit of {limit}")]
    TooLarge {
        /// What the directory says.
        said: u64,
        /// The most that is read.
        limit: u64,
    },
    /// The deflate stream is not valid, ends early, late, or gives another size.
    #[error("it does not inflate to the stated size")]
    Inflate,
    /// The checksum differs.
    #[error("its checksum differs")]
    Checksum,
}

/// What a device would refuse, or two readers would read differently.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ZipFault {
    /// Two entries of one name.
    #[error("two entries have the name {0}")]
    DuplicateName(String),
    /// A name that leaves the folder, is absolute or empty, or holds control characters.
    #[error("the entry name {0} is not a plain relative path")]
    UnsafeName(String),
    /// A name that is not UTF-8: readers see different names in it, and a v1 manifest cannot say it.
    #[error("the entry name {0} is not UTF-8")]
    NameNotText(String),
    /// The local header and the directory disagree.
    #[error("{name}: local header and directory disagree about the {field}")]
    Disagreement {
        /// The entry's name in the directory.
        name: String,
        /// The field.
        field: &'static str,
    },
    /// A local header is missing or runs out of the archive.
    #[error("{0}: no local header where the directory says")]
    NoLocalHeader(String),
    /// The data runs past the entries' end.
    #[error("{0}: its data runs past the end of the entries")]
    DataOutside(String),
    /// Two entries share bytes.
    #[error("{0} and {1} overlap")]
    Overlap(String, String),
    /// Sizes that no compression gives.
    #[error("{name}: {compressed} bytes cannot inflate to {size}")]
    Impossible {
        /// The entry's name.
        name: String,
        /// Its size in the archive.
        compressed: u64,
        /// What it says it holds.
        size: u64,
    },
    /// It holds far more than what is in it: made to keep its readers busy.
    #[error("its {length} bytes say that they inflate to {size}, more than any package holds")]
    Inflates {
        /// The file's size.
        length: u64,
        /// What its entries hold together.
        size: u64,
    },
    /// An encrypted entry.
    #[error("{0} is encrypted")]
    Encrypted(String),
    /// A method other than stored and deflate.
    #[error("{0} uses the compression method {1}")]
    Method(String, u16),
    /// Bytes that belong to nothing.
    #[error("{length} bytes at byte {at} belong to no entry ({place})")]
    Stray {
        /// Where they start.
        at: u64,
        /// How many there are.
        length: u64,
        /// Between which parts they stand.
        place: &'static str,
    },
    /// A zip64 locator or sizes that only zip64 can hold.
    #[error("it uses zip64, which the devices that it is for do not read")]
    Zip64,
    /// A second end record, or bytes after the first.
    #[error("there is more than one end of the archive")]
    SecondEnd,
    /// The end record's counts differ from the directory.
    #[error("the end record says {said} entries, the directory has {found}")]
    Count {
        /// What the end record says.
        said: u64,
        /// What the directory has.
        found: u64,
    },
    /// The archive claims several disks.
    #[error("it claims to be spread over several disks")]
    Disks,
}
