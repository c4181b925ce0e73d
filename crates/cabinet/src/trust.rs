//! Why a cabinet is believed to be the one that is meant, and how new it has to be: pins, and what this machine
//! remembers.

use std::fmt;
use std::path::Path;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::digest::Digest;
use crate::row::Head;

/// Which cabinet is meant, and a row that it has to have: the hash of its first row, and a later row of its members.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Pin {
    /// The hash of the cabinet's first row.
    pub identity: Digest,
    /// The floor: a cabinet without this row is older, or another.
    #[serde(flatten)]
    pub head: Head,
}

/// Who says which cabinet is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PinnedBy {
    /// The project file.
    ProjectFile,
    /// The unlock file.
    UnlockFile,
    /// What the passphrase opened.
    Passphrase,
    /// This machine's memory.
    Machine,
}

impl fmt::Display for PinnedBy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            PinnedBy::ProjectFile => "the project file",
            PinnedBy::UnlockFile => "the unlock file",
            PinnedBy::Passphrase => "the passphrase",
            PinnedBy::Machine => "this machine",
        })
    }
}

/// What a machine remembers of a cabinet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Known {
    /// The newest row that was proved here.
    pub head: Head,
    /// Who could do everything then: their signing keys (SubjectPublicKeyInfo, hexadecimal). A restore that one of
    /// them signed is an honest step back.
    pub managers: Vec<String>,
    /// The digest of all records as they were listed, where they were proved to be what that row says: the same bytes are
    /// not proved once more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub listing: Option<Digest>,
    /// The row that the project file pinned then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pinned: Option<Head>,
}

/// What this machine remembers of the cabinets that it has seen. Losing it costs the notice of a step back and some
/// time, nothing else: nothing here is an error.
pub trait Memory {
    /// What is known of the cabinet with that identity.
    fn known(&self, _identity: &Digest) -> Option<Known> {
        None
    }

    /// Which cabinet was at that place.
    fn at(&self, _path: &Path) -> Option<Digest> {
        None
    }

    /// Remembers what was proved.
    fn keep(&self, _path: &Path, _identity: &Digest, _known: &Known) {}

    /// What this machine is called in the history.
    fn machine(&self) -> String {
        "unknown".into()
    }
}

/// A machine that remembers nothing.
pub struct Forgetful;

impl Memory for Forgetful {}

/// What a cabinet is held against when it is opened.
pub struct Trust<'m> {
    /// The project file's pin.
    pub pin: Option<Pin>,
    /// This machine.
    pub memory: &'m dyn Memory,
}

/// How a cabinet stands to what is known of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "is")]
pub enum Standing {
    /// As new as anything that is known.
    Current,
    /// Somebody knows a newer row of it: an old file was put back, or this is a copy.
    Older {
        /// Who knows.
        by: PinnedBy,
        /// The row that they know.
        known: u64,
        /// The newest row of this one.
        found: u64,
    },
    /// It went on, but not from the row that somebody knows: two copies were both changed.
    Parted {
        /// Who knows another one.
        by: PinnedBy,
        /// The row that is another there.
        row: u64,
    },
}
