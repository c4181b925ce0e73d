//! Exit codes and remedies of errors about the cabinet.

use ninekeys_cabinet::CabinetError;
use ninekeys_core::password::PasswordError;
use ninekeys_core::recovery::{RecoveryError, SplitError};
use ninekeys_ops::OpenError;
use ninekeys_ops::cabinet::adopt::AdoptError;
use ninekeys_ops::cabinet::backup::BackupError;
use ninekeys_ops::cabinet::drill::DrillError;
use ninekeys_ops::cabinet::history::HistoryError;
use ninekeys_ops::cabinet::issue::IssueError;
use ninekeys_ops::cabinet::members::add::MemberAddError;
use ninekeys_ops::cabinet::members::list::MembersListError;
use ninekeys_ops::cabinet::members::remove::MemberRemoveError;
use ninekeys_ops::cabinet::passphrase::PassphraseError;
use ninekeys_ops::cabinet::pieces::join::PiecesJoinError;
use ninekeys_ops::cabinet::pieces::make::PiecesMakeError;
use ninekeys_ops::cabinet::pin::PinError;
use ninekeys_ops::cabinet::remember::RememberError;
use ninekeys_ops::cabinet::restore::RestoreError;
use ninekeys_ops::cabinet::status::StatusError;
use ninekeys_ops::init::InitError;
use ninekeys_ops::outputs::OutputError;
use ninekeys_portal::client::PortalError;

use super::{Class, Classify, Exit, Remedy, again, class, defect, say};

impl Classify for CabinetError {
    fn class(&self) -> Class {
        match self {
            Self::Missing => class(Exit::Damaged, &["init"]),
            Self::Tampered(_) => class(Exit::Damaged, &["cabinet", "restore", "COPY"]),
            Self::NotACabinet => again(Exit::Damaged, &["--cabinet", "FILE"]),
            Self::TooNew { .. } => {
                say(Exit::Damaged, "take the version of this tool that wrote it, or a later one")
            }
            Self::NotAnUnlockFile => again(Exit::Damaged, &["--unlock-file", "FILE"]),
            Self::Busy(_) => again(Exit::Damaged, &[]),
            Self::Io { .. } => {
                say(Exit::Damaged, "make room and get the right to the folder, then do it again")
            }
            Self::MayNotLast(_) => (
                Exit::Damaged,
                Remedy::Stands {
                    changed: "the cabinet, as far as the disk keeps it, and nothing outside",
                    next: Box::new(Remedy::Say(
                        "see to the disk, then look with `ninekeys cabinet history` whether it lasted",
                    )),
                },
            ),
            Self::Unended(cause) => (
                cause.class().0,
                Remedy::Stands {
                    changed: "the files are where they were to go, whole",
                    next: Box::new(Remedy::Say(
                        "make room; whatever unlocks the cabinet next writes the row, and nothing has to be made again",
                    )),
                },
            ),
            Self::Unfinished(_) => {
                say(Exit::Damaged, "copy the folder to where it can be written, and look at it there")
            }
            Self::Another { .. } | Self::NotCurrent(_) => class(Exit::Refused, &["cabinet", "pin"]),
            Self::WrongPassphrase | Self::WrongUnlockFile => class(Exit::Locked, &["cabinet", "status"]),
            Self::Locked => again(Exit::Locked, &["--passphrase-in", "FILE"]),
            Self::NotGiven { .. } => say(
                Exit::Refused,
                "have somebody who manages the members give it (`--shared`), or make material for the app alone (`--app`)",
            ),
            Self::NotAllowed { .. } => class(Exit::Refused, &["cabinet", "status"]),
            Self::ChangedMeanwhile(_) => again(Exit::Refused, &[]),
            Self::ClockBehind { .. } => class(Exit::Refused, &["cabinet", "history"]),
            Self::Exists | Self::LastMember => class(Exit::Refused, &["cabinet", "status"]),
            Self::StillNamed { by, .. } => class(Exit::Refused, &["show", by]),
            Self::NameTaken(name) => class(Exit::Refused, &["show", name]),
            Self::Name(_) => say(Exit::Usage, "choose another name"),
            Self::NotFound(_) => class(Exit::Usage, &["inventory"]),
            Self::Crypto(_) => defect(),
        }
    }
}

impl Classify for OpenError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Cabinet { cause, .. } => cause.class(),
            Self::NobodyToAsk(_) => again(Exit::Locked, &["--passphrase-in", "FILE"]),
            Self::Ask(_) => again(Exit::Locked, &[]),
        }
    }
}

/// What a passphrase lacks, where nobody could be asked again.
fn passphrase(error: &PasswordError) -> Class {
    match error {
        PasswordError::TooShort | PasswordError::Guessable => {
            say(Exit::Refused, "choose a longer one: four words that nobody would put together are enough")
        }
    }
}

impl Classify for InitError {
    fn class(&self) -> Class {
        match self {
            Self::Exists(_) => class(Exit::Refused, &["board"]),
            Self::CabinetThere(_) => (Exit::Refused, Remedy::Without("--new-unlock-file")),
            Self::Title(_) => again(Exit::Usage, &["--title", "TITLE"]),
            Self::NobodyToAsk => again(Exit::Usage, &["--passphrase-in", "FILE"]),
            Self::Passphrase(inner) => passphrase(inner),
            Self::Ask(_) => again(Exit::Usage, &[]),
            Self::File(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Portal(PortalError::NotPinned(_)) => again(Exit::Usage, &["--portal-certificate", "FILE"]),
            Self::Portal(_) => again(Exit::Usage, &["--portal", "http://127.0.0.1:PORT"]),
            Self::Certificates(inner) => inner.class(),
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
            Self::Password(inner) => passphrase(inner),
            Self::Ask(_) => again(Exit::Usage, &[]),
            Self::NobodyToAsk => again(Exit::Usage, &["--new-passphrase-in", "FILE"]),
        }
    }
}

impl Classify for BackupError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) | Self::Unnoted { cause: inner, .. } => inner.class(),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::File(inner) => inner.class(),
            Self::Output(OutputError::Exists(_)) => class(Exit::Refused, &["cabinet", "backup", "FOLDER"]),
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
            Self::NotSure { .. } => again(Exit::Refused, &["--yes"]),
            Self::Ask(_) => again(Exit::Usage, &[]),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for IssueError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Output(OutputError::Exists(_)) => class(Exit::Refused, &["cabinet", "unlock-file", "FILE"]),
            Self::Output(inner) => inner.class(),
            Self::File(inner) | Self::Unnamed { cause: inner, .. } => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for MembersListError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for MemberAddError {
    fn class(&self) -> Class {
        match self {
            Self::Name(_) => again(Exit::Usage, &[]),
            Self::Taken(_) => class(Exit::Refused, &["cabinet", "members", "list"]),
            Self::NoApps => again(Exit::Usage, &["--app", "APP"]),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::Project(inner) => inner.class(),
            Self::Issue(IssueError::Output(OutputError::Exists(_))) => {
                again(Exit::Refused, &["--to", "FILE"])
            }
            Self::Issue(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for MemberRemoveError {
    fn class(&self) -> Class {
        match self {
            Self::Unknown { .. } | Self::LastManager(_) => {
                class(Exit::Refused, &["cabinet", "members", "list"])
            }
            Self::Oneself(_) => again(Exit::Refused, &["--unlock-file", "FILE"]),
            Self::NotSure(_) => again(Exit::Refused, &["--yes"]),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Project(inner) => inner.class(),
            Self::Output(OutputError::Exists(_)) => again(Exit::Refused, &["--draft", "FILE"]),
            Self::Output(inner) => inner.class(),
            Self::Undrafted { cause, .. } => cause.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for HistoryError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::NotFound(_) => class(Exit::Usage, &["inventory"]),
            Self::Cabinet(inner) | Self::Copy { cause: inner, .. } => inner.class(),
            Self::OtherCabinet(_) => class(Exit::Refused, &["cabinet", "status"]),
        }
    }
}

impl Classify for DrillError {
    fn class(&self) -> Class {
        match self {
            Self::NoCopy => class(Exit::Refused, &["cabinet", "backup", "FOLDER"]),
            Self::Project(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Copy { .. } => class(Exit::Damaged, &["cabinet", "backup", "FOLDER"]),
        }
    }
}

impl Classify for PiecesMakeError {
    fn class(&self) -> Class {
        match self {
            Self::Split(SplitError::Numbers(_)) => again(Exit::Usage, &["--needed", "3"]),
            Self::Split(SplitError::Key(_)) => defect(),
            Self::Project(inner) => inner.class(),
            Self::Output(OutputError::Exists(_)) => again(Exit::Refused, &["--to", "FOLDER"]),
            Self::Output(inner) => inner.class(),
            Self::File(inner) | Self::Unnamed { cause: inner, .. } => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for PiecesJoinError {
    fn class(&self) -> Class {
        match self {
            Self::Recovery(RecoveryError::TooFew { .. }) => {
                say(Exit::Locked, "name more of the pieces of this set")
            }
            Self::Recovery(_) => {
                say(Exit::Locked, "compare the piece with its paper, and name each of one set once")
            }
            Self::NobodyToAsk => class(
                Exit::Locked,
                &["cabinet", "pieces", "join", "FILE", "FILE", "--new-unlock-file", "FILE"],
            ),
            Self::OpenNothing => class(Exit::Locked, &["cabinet", "status"]),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Output(OutputError::Exists(_)) => again(Exit::Refused, &["--new-unlock-file", "FILE"]),
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Issue(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for RememberError {
    fn class(&self) -> Class {
        match self {
            Self::Time => class(Exit::Usage, &["cabinet", "remember", "8h"]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Store(_) => class(Exit::Damaged, &["cabinet", "unlock-file", "FILE"]),
        }
    }
}
