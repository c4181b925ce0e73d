//! Exit codes and remedies of errors about the cabinet.

use ninekeys_cabinet::CabinetError;
use ninekeys_ops::OpenError;
use ninekeys_ops::cabinet::adopt::AdoptError;
use ninekeys_ops::cabinet::backup::BackupError;
use ninekeys_ops::cabinet::passphrase::PassphraseError;
use ninekeys_ops::cabinet::pin::PinError;
use ninekeys_ops::cabinet::restore::RestoreError;
use ninekeys_ops::cabinet::status::StatusError;
use ninekeys_ops::init::InitError;

use super::{Class, Classify, Exit, class};

impl Classify for CabinetError {
    fn class(&self) -> Class {
        match self {
            Self::Missing => class(Exit::Damaged, &["init"]),
            Self::Tampered(_) => class(Exit::Damaged, &["cabinet", "restore", "COPY"]),
            Self::NotACabinet
            | Self::TooNew { .. }
            | Self::NotAnUnlockFile
            | Self::Busy(_)
            | Self::Io { .. }
            | Self::Unfinished(_) => class(Exit::Damaged, &[]),
            Self::Another { .. } | Self::NotCurrent(_) => class(Exit::Refused, &["cabinet", "pin"]),
            Self::WrongPassphrase | Self::WrongUnlockFile => class(Exit::Locked, &["cabinet", "status"]),
            Self::Locked => class(Exit::Locked, &["cabinet", "status"]),
            Self::NotGiven { .. } | Self::NotAllowed { .. } => class(Exit::Refused, &["cabinet", "status"]),
            Self::ChangedMeanwhile(_) => class(Exit::Refused, &["cabinet", "history"]),
            Self::ClockBehind { .. } => class(Exit::Refused, &["cabinet", "history"]),
            Self::Exists | Self::LastMember => class(Exit::Refused, &["cabinet", "status"]),
            Self::NameTaken(name) => class(Exit::Refused, &["show", name]),
            Self::Name(_) => class(Exit::Usage, &[]),
            Self::NotFound(_) => class(Exit::Usage, &["inventory"]),
            Self::Crypto(_) => class(Exit::Defect, &[]),
        }
    }
}

impl Classify for OpenError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Cabinet { cause, .. } => cause.class(),
            Self::NobodyToAsk(_) => {
                class(Exit::Locked, &["cabinet", "status", "--prove", "--passphrase-file", "FILE"])
            }
            Self::Ask(_) => class(Exit::Locked, &[]),
        }
    }
}

impl Classify for InitError {
    fn class(&self) -> Class {
        match self {
            Self::Exists(_) => class(Exit::Refused, &["board"]),
            Self::Title(_) => class(Exit::Usage, &["init", "--title", "TITLE"]),
            Self::NobodyToAsk => class(Exit::Usage, &["init", "--passphrase-file", "FILE"]),
            Self::Passphrase(_) => class(Exit::Refused, &[]),
            Self::Ask(_) => class(Exit::Usage, &["init"]),
            Self::File(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::Unnamed { .. } => class(Exit::Damaged, &["init"]),
        }
    }
}

impl Classify for AdoptError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for PinError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Differs { .. } => class(Exit::Refused, &["cabinet", "pin"]),
        }
    }
}

impl Classify for StatusError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for PassphraseError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Password(_) => class(Exit::Refused, &[]),
            Self::Ask(_) => class(Exit::Usage, &["cabinet", "passphrase"]),
            Self::NobodyToAsk => {
                class(Exit::Usage, &["cabinet", "passphrase", "--new-passphrase-file", "FILE"])
            }
        }
    }
}

impl Classify for BackupError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::Partly { cause, .. } => cause.class(),
            Self::NotAFolder(_) => class(Exit::Damaged, &["cabinet", "backup", "FOLDER"]),
        }
    }
}

impl Classify for RestoreError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Itself(_) => class(Exit::Usage, &["cabinet", "status"]),
            Self::NotSure { from, .. } => class(Exit::Refused, &["cabinet", "restore", from, "--yes"]),
            Self::Ask(_) => class(Exit::Usage, &[]),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}
