//! Exit codes and remedies of errors about apps.

use ninekeys_ops::app::add::AppAddError;

use super::{Class, Classify, Exit, class};

impl Classify for AppAddError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Exists(_) | Self::IdTaken { .. } => class(Exit::Refused, &["board"]),
            Self::Name(_) | Self::NoSide | Self::Id(_) | Self::Destination { .. } => {
                class(Exit::Usage, &["app", "add", "--help"])
            }
        }
    }
}
