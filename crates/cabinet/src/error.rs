//! What can go wrong with a cabinet.

use ninekeys_core::model::{NameError, NotFound};
use thiserror::Error;

/// Why something was not done with the cabinet.
#[derive(Debug, Error)]
pub enum CabinetError {
    /// The file is not a database of ours.
    #[error("the file is not a cabinet")]
    NotACabinet,
    /// It was written by a later version.
    #[error("the cabinet has schema {found}; this version reads up to {known}")]
    TooNew {
        /// Its schema.
        found: i64,
        /// The latest schema known.
        known: i64,
    },
    /// There is no such file.
    #[error("there is no cabinet at this place")]
    Missing,
    /// Something has the place already.
    #[error("there is a file already")]
    Exists,
    /// A passphrase or identity file that opens for no member.
    #[error("no member of the cabinet has this {0}")]
    WrongCredential(&'static str),
    /// The identity file does not hold an identity.
    #[error("the file holds no X25519 identity")]
    NotAnIdentity,
    /// A sealed part was asked for while locked.
    #[error("the cabinet is locked")]
    Locked,
    /// Something was changed behind the tool's back, or is damaged.
    #[error("the cabinet was changed by something else than this tool, or is damaged: {0}")]
    Tampered(String),
    /// The name is taken.
    #[error("the name {0} is taken")]
    NameTaken(String),
    /// The name cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// No item goes by that name.
    #[error(transparent)]
    NotFound(#[from] NotFound),
    /// Another process holds the cabinet for too long.
    #[error("another process has been changing the cabinet for over 30 seconds")]
    Busy,
    /// The disk or the file system is full, read-only or broken.
    #[error("the cabinet's file cannot be read or written: {0}")]
    Io(String),
    /// Encryption or the random generator failed.
    #[error("encryption failed: {0}")]
    Crypto(&'static str),
    /// The last member cannot go.
    #[error("it is the only member with a {0}")]
    LastMember(&'static str),
}
