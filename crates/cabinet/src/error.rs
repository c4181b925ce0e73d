//! What can go wrong with a cabinet.

use std::path::PathBuf;

use ninekeys_core::model::{NameError, NotFound};
use thiserror::Error;

use crate::digest::Digest;
use crate::trust::{PinnedBy, Standing};

/// Why something was not done with the cabinet.
#[derive(Debug, Error)]
pub enum CabinetError {
    /// The file is not a database of ours.
    #[error("the file is not a cabinet")]
    NotACabinet,
    /// It was written by a later version.
    #[error("the cabinet has layout {found}; this version reads layout {known}")]
    TooNew {
        /// Its layout.
        found: u32,
        /// The layout known.
        known: u32,
    },
    /// There is no such file.
    #[error("there is no cabinet at this place")]
    Missing,
    /// Something has the place already.
    #[error("there is a file already")]
    Exists,
    /// A passphrase that opens for no member.
    #[error("this passphrase does not open the cabinet")]
    WrongPassphrase,
    /// An unlock file of nobody who is a member.
    #[error("this unlock file does not open the cabinet")]
    WrongUnlockFile,
    /// The file does not hold what an unlock file holds.
    #[error("it is not an unlock file of this tool, or not whole")]
    NotAnUnlockFile,
    /// A sealed part was asked for while locked.
    #[error("the cabinet is locked")]
    Locked,
    /// The member was not given the compartment.
    #[error("{member} may not open what belongs to {compartment}")]
    NotGiven {
        /// The member.
        member: String,
        /// The compartment.
        compartment: String,
    },
    /// The member may not do that.
    #[error("{member} may not do that: {reason}")]
    NotAllowed {
        /// The member.
        member: String,
        /// Why not.
        reason: &'static str,
    },
    /// Something was changed behind the tool's back, or is damaged.
    #[error("the cabinet was changed by something else than this tool, or is damaged: {0}")]
    Tampered(String),
    /// Another cabinet than the one that is meant.
    #[error("this is another cabinet than the one that {by} names: {found} instead of {pinned}")]
    Another {
        /// Who names one.
        by: PinnedBy,
        /// The one that is meant.
        pinned: Digest,
        /// The one that is there.
        found: Digest,
    },
    /// Something newer is known.
    #[error("{}", stands(.0))]
    NotCurrent(Standing),
    /// The item was changed by another process since it was looked at.
    #[error("another process changed {0} at this moment; do it again")]
    ChangedMeanwhile(String),
    /// This machine's clock is far behind the newest change.
    #[error("the newest change is of {newest}, and this machine's clock says {now}")]
    ClockBehind {
        /// The newest row's time.
        newest: String,
        /// The time now.
        now: String,
    },
    /// An item that another names cannot be taken out.
    #[error("{name} cannot be taken out: {by} needs it")]
    StillNamed {
        /// The item.
        name: String,
        /// Who names it.
        by: String,
    },
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
    #[error("{} has been changing the cabinet for over 30 seconds", .0.as_deref().unwrap_or("another process"))]
    Busy(Option<String>),
    /// The disk or the file system is full, read-only or broken.
    #[error("the cabinet's file cannot be {action}: {cause}")]
    Io {
        /// `read` or `written`.
        action: &'static str,
        /// What the system or the database said.
        cause: String,
    },
    /// It was made, and the disk does not say that it will last.
    #[error("the cabinet was changed, but the disk may lose it when the power goes: {0}")]
    MayNotLast(String),
    /// What left has its name, and the row behind it could not be written.
    #[error("all of it was made, but the last row of the history could not be written: {0}")]
    Unended(Box<CabinetError>),
    /// A kill left the database half-way, and it cannot be brought back where it is.
    #[error("a change was cut off here, and {} cannot be written to finish it", .0.display())]
    Unfinished(PathBuf),
    /// Encryption or the random generator failed.
    #[error("encryption failed: {0}")]
    Crypto(&'static str),
    /// The last member cannot go.
    #[error("a cabinet needs somebody who can open it")]
    LastMember,
}

fn stands(standing: &Standing) -> String {
    match standing {
        Standing::Current => "the cabinet is current".into(),
        Standing::Older { by, known, found } => {
            format!(
                "{by} has seen change {known} of this cabinet, and this file ends with change {found}: it is older"
            )
        }
        Standing::Parted { by, row } => format!(
            "change {row} of this cabinet is not the one that {by} has seen: two copies of it were both changed"
        ),
    }
}
