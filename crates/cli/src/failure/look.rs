//! Exit codes and remedies of errors about looking.

use ninekeys_ops::board::BoardError;
use ninekeys_ops::compare::CompareError;
use ninekeys_ops::demo::DemoError;
use ninekeys_ops::inspect::InspectError;
use ninekeys_ops::inventory::InventoryError;
use ninekeys_ops::show::ShowError;

use super::{Class, Classify, Exit, class};

impl Classify for CompareError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Keystore(_, inner) => (inner.class().0, Vec::new()),
            Self::Zip(_, inner) => inner.class(),
            Self::Digest(inner) => inner.class(),
            Self::NotFound(_) => class(Exit::Damaged, &["inventory"]),
            Self::NoKey(_) => class(Exit::Damaged, &[]),
            Self::NobodyToAsk(_) => class(Exit::Locked, &["compare", "A", "B", "--password-file", "FILE"]),
            Self::Ask(_) => class(Exit::Usage, &[]),
        }
    }
}

impl Classify for InspectError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Zip(inner) => inner.class(),
            Self::Certificate(_) | Self::Unknown => class(Exit::Damaged, &[]),
            Self::Keystore(inner) => (inner.class().0, Vec::new()),
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
            Self::Cabinet(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
        }
    }
}

impl Classify for ShowError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::NotFound(_) => class(Exit::Usage, &["inventory"]),
        }
    }
}

impl Classify for BoardError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for DemoError {
    fn class(&self) -> Class {
        match self {
            Self::NotEmpty(_) => class(Exit::Refused, &["demo", "FOLDER"]),
            Self::File(inner) => inner.class(),
            Self::Material(_) => class(Exit::Defect, &[]),
        }
    }
}
