//! Exit codes and remedies of errors about files, archives and the project file.

use std::io;

use ninekeys_core::build::ExamineError;
use ninekeys_core::stream::DigestError;
use ninekeys_formats::zip::ZipError;
use ninekeys_ops::outputs::{Ours, OutputError};
use ninekeys_ops::project::ProjectError;
use ninekeys_ops::{FileError, LASTING};

use super::{Class, Classify, Exit, Remedy, again, class, say};

/// What to do about a file that cannot be read.
const LOOK_AT_THE_FILE: &str = "look at the file, or fetch it again: it may have been cut short on the way";

/// An output whose name is taken is a refusal; everything else about files is damage.
impl Classify for FileError {
    fn class(&self) -> Class {
        use io::ErrorKind as K;
        match (self.action, self.cause.kind()) {
            (LASTING, _) => {
                let next = Box::new(Remedy::Say("see to the disk, then look at the file"));
                let changed = "the file is written, as far as the disk keeps it";
                (Exit::Damaged, Remedy::Stands { changed, next })
            }
            ("written", K::AlreadyExists) => {
                say(Exit::Refused, "choose another name, or move away what is there")
            }
            ("written", K::NotFound) => {
                say(Exit::Damaged, "make the folder first, or look at how the path is written")
            }
            (_, K::NotFound) => {
                say(Exit::Damaged, "look at how the path is written, and from which folder it counts")
            }
            (_, K::PermissionDenied) => say(Exit::Damaged, "get the right to it, or choose another place"),
            (_, K::ReadOnlyFilesystem) => say(Exit::Damaged, "choose a place that can be written to"),
            (_, K::StorageFull | K::QuotaExceeded | K::FileTooLarge) => {
                say(Exit::Damaged, "make room, or choose another disk, and do it again")
            }
            ("written", _) => say(Exit::Damaged, "choose another place, and do it again"),
            _ => say(Exit::Damaged, "look at what is there: it is not what was expected"),
        }
    }
}

impl Classify for ProjectError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Missing => class(Exit::Damaged, &["init"]),
            Self::Unpinned(cause) => {
                let next = Box::new(Remedy::Command(vec!["cabinet".into(), "pin".into()]));
                let changed = "all that was asked for, but for the pin in the project file";
                (cause.class().0, Remedy::Stands { changed, next })
            }
            Self::UnknownStore { stores, .. } => match stores.first() {
                Some(one) => again(Exit::Usage, &["--store", one]),
                None => say(Exit::Usage, "write `[store.NAME]` with its `address` into ninekeys.toml"),
            },
            Self::NotForAStore { .. } => again(Exit::Usage, &["--for", "store"]),
            Self::Malformed { .. } => {
                say(Exit::Damaged, "mend that line; docs/project-file.md has every key")
            }
        }
    }
}

impl Classify for OutputError {
    fn class(&self) -> Class {
        match self {
            Self::Exists(_) => again(Exit::Refused, &["--replace"]),
            Self::Ours { ours: Ours::Output, .. } => say(Exit::Refused, "give each output a name of its own"),
            Self::Ours { .. } => say(Exit::Refused, "choose another name or folder for the output"),
        }
    }
}

impl Classify for ZipError {
    fn class(&self) -> Class {
        match self {
            Self::Empty | Self::NotAnArchive | Self::Truncated => say(Exit::Damaged, LOOK_AT_THE_FILE),
            Self::Directory(_) | Self::Entry { .. } | Self::Read(_) => say(Exit::Damaged, LOOK_AT_THE_FILE),
            Self::Stopped => stopped(),
        }
    }
}

impl Classify for DigestError {
    fn class(&self) -> Class {
        match self {
            Self::Stopped => stopped(),
            Self::Read(_) => say(Exit::Damaged, LOOK_AT_THE_FILE),
            Self::Write(_) => say(Exit::Damaged, "make room, or choose another disk, and do it again"),
            Self::TooLarge => say(Exit::Refused, "make the build smaller: no device takes one of this size"),
        }
    }
}

impl Classify for ExamineError {
    fn class(&self) -> Class {
        match self {
            Self::Zip(inner) => inner.class(),
            Self::Digest(inner) => inner.class(),
            Self::Inside { .. } => say(Exit::Damaged, LOOK_AT_THE_FILE),
        }
    }
}

fn stopped() -> Class {
    again(Exit::Stopped, &[])
}
