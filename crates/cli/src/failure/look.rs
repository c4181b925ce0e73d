//! Exit codes and remedies of errors about looking.

use ninekeys_ops::board::BoardError;
use ninekeys_ops::compare::CompareError;
use ninekeys_ops::demo::DemoError;
use ninekeys_ops::inspect::InspectError;
use ninekeys_ops::inventory::InventoryError;
use ninekeys_ops::show::ShowError;

use ninekeys_ops::page::PageError;
use ninekeys_ops::report::ReportError;
use ninekeys_ops::sweep::SweepError;
use ninekeys_ops::timeline::TimelineError;

use super::{Class, Classify, Exit, again, class, defect, say};

impl Classify for CompareError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Keystore(_, inner) => inner.class(),
            Self::Zip(_, inner) => inner.class(),
            Self::Build(_, inner) => inner.class(),
            Self::Digest(inner) => inner.class(),
            Self::NotFound(_) => class(Exit::Damaged, &["inventory"]),
            Self::NoKey(_) => {
                say(Exit::Damaged, "name a keystore, a certificate, a signed build or an item that has a key")
            }
            Self::NobodyToAsk(_) => again(Exit::Locked, &["--password-in", "FILE"]),
            Self::Ask(_) => again(Exit::Usage, &[]),
        }
    }
}

impl Classify for InspectError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Zip(inner) => inner.class(),
            Self::Certificate(_) | Self::Executable(_) => {
                say(Exit::Damaged, "fetch it again: it may have been cut short on the way")
            }
            Self::Unknown => {
                say(Exit::Damaged, "look at where it comes from: nothing that this tool knows begins like it")
            }
            Self::Keystore(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::NoItem(inner) => inner.class(),
            Self::Background(inner) => inner.class(),
            Self::Digest(inner) => inner.class(),
        }
    }
}

impl Classify for InventoryError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
        }
    }
}

impl Classify for ShowError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::NotFound(_) => class(Exit::Usage, &["inventory"]),
            Self::Project(inner) => inner.class(),
            Self::Certificates(inner) => inner.class(),
        }
    }
}

impl Classify for BoardError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
        }
    }
}

impl Classify for DemoError {
    fn class(&self) -> Class {
        match self {
            Self::NotEmpty(_) => class(Exit::Refused, &["demo", "FOLDER"]),
            Self::File(inner) => inner.class(),
            Self::Material(_) => defect(),
        }
    }
}

impl Classify for TimelineError {
    fn class(&self) -> Class {
        match self {
            Self::Inventory(inner) => inner.class(),
            Self::Beyond => again(Exit::Usage, &["--months", "12"]),
        }
    }
}

impl Classify for ReportError {
    fn class(&self) -> Class {
        match self {
            Self::Board(inner) => inner.class(),
            Self::Timeline(inner) => inner.class(),
            Self::Check(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
        }
    }
}

impl Classify for SweepError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Background(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Stopped => again(Exit::Stopped, &[]),
            Self::Partly { cause, .. } => cause.class(),
            Self::Repository { .. } => again(Exit::Damaged, &["--no-history"]),
        }
    }
}

impl Classify for PageError {
    fn class(&self) -> Class {
        match self {
            Self::Output(ninekeys_ops::outputs::OutputError::Exists(_)) => {
                again(Exit::Refused, &["--replace"])
            }
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
        }
    }
}
