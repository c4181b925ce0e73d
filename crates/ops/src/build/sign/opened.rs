//! A build on its way: read, opened, allowed; of one platform or another.

use ninekeys_core::android::{Renumbered, SignError as AndroidError};
use ninekeys_core::build::{Form, Says, is_for_ios};
use ninekeys_core::ios::tree::ZipTree;
use ninekeys_core::model::{Destination, Platform};
use ninekeys_formats::limits::Limits;

use super::{Request, Set, SignError, android, ios};
use crate::build::input::Input;
use crate::files::InputFile;
use crate::folder::FolderTree;

/// A build that was opened, of one platform or another.
pub(super) enum Opened<'s> {
    Android(Box<android::Opened<'s>>),
    Ios(ios::Opened<'s>),
}

/// A build that may go where it goes.
pub(super) enum Allowed<'s> {
    Android(Box<android::Allowed<'s>>),
    Ios(ios::Opened<'s>),
}

/// A build as it was read, before anything is said of it.
pub(super) enum Loaded<'s> {
    Android(&'s InputFile),
    Renumbered(Box<Renumbered<'s>>),
    Ipa(Box<ZipTree<'s>>),
    Folder(&'s FolderTree),
}

impl<'s> Loaded<'s> {
    pub(super) fn of(input: &'s Input, set: &Set) -> Result<Self, SignError> {
        Ok(match input {
            Input::Folder(tree) => Loaded::Folder(tree),
            Input::File(file) if is_for_ios(file) => {
                let tree = ZipTree::open(file, &Limits::USUAL).map_err(AndroidError::from)?;
                Loaded::Ipa(Box::new(tree))
            }
            Input::File(file) => match set.numbers()? {
                Some(numbers) => {
                    Loaded::Renumbered(Box::new(Renumbered::of(file, &numbers, &Limits::USUAL)?))
                }
                None => Loaded::Android(file),
            },
        })
    }
}

impl Loaded<'_> {
    /// Whether it had a signature that is not there any more.
    pub(super) fn was_signed(&self) -> bool {
        matches!(self, Loaded::Renumbered(package) if package.was_signed)
    }
}

impl<'s> Opened<'s> {
    pub(super) fn open(loaded: &'s Loaded<'s>) -> Result<Self, SignError> {
        Ok(match loaded {
            Loaded::Android(file) => Opened::Android(Box::new(android::Opened::open(*file, &Limits::USUAL)?)),
            Loaded::Renumbered(package) => {
                Opened::Android(Box::new(android::Opened::open(package.as_ref(), &Limits::USUAL)?))
            }
            Loaded::Ipa(tree) => Opened::Ios(ios::Opened::open(ios::Lies::Packed(tree))?),
            Loaded::Folder(tree) => Opened::Ios(ios::Opened::open(ios::Lies::Loose(tree))?),
        })
    }

    pub(super) fn platform(&self) -> Platform {
        match self {
            Opened::Android(_) => Platform::Android,
            Opened::Ios(_) => Platform::Ios,
        }
    }

    pub(super) fn form(&self) -> Form {
        match self {
            Opened::Android(opened) => Form::Android(opened.kind()),
            Opened::Ios(opened) => Form::Ios(opened.build.container()),
        }
    }

    /// What it will say of itself, with what is set in it.
    pub(super) fn says(&self, set: &Set) -> Says {
        match self {
            Opened::Android(opened) => ninekeys_core::android::says(opened.manifest()),
            Opened::Ios(opened) => opened.says(set),
        }
    }

    pub(super) fn is_signed(&self) -> bool {
        match self {
            Opened::Android(opened) => opened.is_signed(),
            Opened::Ios(opened) => opened.build.is_signed(),
        }
    }

    /// Refuses what must not be signed for that destination, and options that are another platform's.
    pub(super) fn allow(self, destination: Destination, request: &Request) -> Result<Allowed<'s>, SignError> {
        let only = |option, platform| SignError::OnlyFor { option, platform };
        match self {
            Opened::Android(_) if let Some(option) = request.set.first_of_ios() => {
                Err(only(option, Platform::Ios))
            }
            Opened::Android(_) if request.entitlements.is_some() => {
                Err(only("--entitlements", Platform::Ios))
            }
            Opened::Android(_) if request.timestamp => Err(SignError::TimestampForIos),
            Opened::Android(opened) => Ok(Allowed::Android(Box::new(opened.allow(destination)?))),
            Opened::Ios(_) if request.schemes.is_some() => Err(only("--schemes", Platform::Android)),
            Opened::Ios(_) if request.idsig => Err(only("--idsig", Platform::Android)),
            Opened::Ios(opened) => Ok(Allowed::Ios(opened)),
        }
    }
}
