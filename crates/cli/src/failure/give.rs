//! Exit codes and remedies of errors about what is given to others.

use ninekeys_ops::give::GiveError;
use ninekeys_ops::given::GivenError;
use ninekeys_ops::outputs::OutputError;

use super::{Class, Classify, Exit, again, class, defect};

impl Classify for GiveError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) | Self::NotIos(_) => class(Exit::Usage, &["app", "list"]),
            Self::Destination(_) => again(Exit::Usage, &["--for", "store"]),
            Self::Receiver(_) => again(Exit::Usage, &["--receiver", "NAME"]),
            Self::NotReady { app, destination, .. } => {
                class(Exit::Refused, &["check", "--app", app, "--for", &destination.to_string()])
            }
            Self::ChainLacks { .. } => class(Exit::Refused, &["identity", "accept", "FILE"]),
            Self::ApiKey(inner) => inner.class(),
            Self::NoKey(name) => class(Exit::Refused, &["show", name]),
            Self::NotEmpty(_) => again(Exit::Refused, &["--to", "FOLDER"]),
            Self::PasswordInside(_) => again(Exit::Refused, &["--note-password", "FILE"]),
            Self::Prepare(inner) => inner.class(),
            Self::Password(inner) => inner.class(),
            Self::Format(_) | Self::Certificate(_) => defect(),
            // the folder is empty: the password's file is what can be there
            Self::Output(OutputError::Exists(_)) => again(Exit::Refused, &["--note-password", "FILE"]),
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for GivenError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}
