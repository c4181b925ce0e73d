//! Exit codes and remedies of errors about files, archives and the project file.

use ninekeys_core::stream::DigestError;
use ninekeys_formats::zip::ZipError;
use ninekeys_ops::FileError;
use ninekeys_ops::outputs::OutputError;
use ninekeys_ops::project::ProjectError;
use std::io;

use super::{Class, Classify, Exit, class};

/// An output whose name is taken is a refusal; everything else about files is damage.
impl Classify for FileError {
    fn class(&self) -> Class {
        let exists = self.action == "written" && self.cause.kind() == io::ErrorKind::AlreadyExists;
        class(if exists { Exit::Refused } else { Exit::Damaged }, &[])
    }
}

impl Classify for ProjectError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Missing => class(Exit::Damaged, &["init"]),
            Self::Malformed { .. } => class(Exit::Damaged, &[]),
        }
    }
}

impl Classify for OutputError {
    fn class(&self) -> Class {
        class(Exit::Refused, &[])
    }
}

impl Classify for ZipError {
    fn class(&self) -> Class {
        match self {
            Self::Empty | Self::NotAnArchive | Self::Truncated => class(Exit::Damaged, &[]),
            Self::Directory(_) | Self::Entry { .. } | Self::Read(_) => class(Exit::Damaged, &[]),
            Self::Stopped => class(Exit::Stopped, &[]),
        }
    }
}

impl Classify for DigestError {
    fn class(&self) -> Class {
        match self {
            Self::Stopped => class(Exit::Stopped, &[]),
            Self::Read(_) | Self::Write(_) => class(Exit::Damaged, &[]),
            Self::TooLarge => class(Exit::Refused, &[]),
        }
    }
}
