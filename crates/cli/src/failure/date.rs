//! Exit codes and remedies of errors about dates.

use ninekeys_ops::date::FindError;
use ninekeys_ops::date::add::DateAddError;
use ninekeys_ops::date::done::DateDoneError;
use ninekeys_ops::date::list::DateListError;
use ninekeys_ops::date::remove::DateRemoveError;

use super::{Class, Classify, Exit, again, class};

impl Classify for FindError {
    fn class(&self) -> Class {
        match self {
            Self::NotFound(_) | Self::NotADate { .. } => class(Exit::Usage, &["date", "list"]),
        }
    }
}

impl Classify for DateAddError {
    fn class(&self) -> Class {
        match self {
            Self::Title(_) => again(Exit::Usage, &[]),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for DateListError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
        }
    }
}

impl Classify for DateDoneError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Over(_) => class(Exit::Refused, &["date", "list"]),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for DateRemoveError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}
