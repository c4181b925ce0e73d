//! Exit codes and remedies of errors about profiles and devices.

use ninekeys_core::chain::NoRoot;
use ninekeys_core::ios::profile::ProfileError;
use ninekeys_ops::device::add::DeviceAddError;
use ninekeys_ops::device::import::DeviceImportError;
use ninekeys_ops::device::list::DeviceListError;
use ninekeys_ops::device::rename::DeviceRenameError;
use ninekeys_ops::device::{FindError as DeviceFindError, IdentifierError};
use ninekeys_ops::profile::FindError;
use ninekeys_ops::profile::export::ProfileExportError;
use ninekeys_ops::profile::import::ProfileImportError;

use super::{Class, Classify, Exit, Remedy, again, class, say};

impl Classify for FindError {
    fn class(&self) -> Class {
        match self {
            Self::NotFound(_) | Self::NotAProfile { .. } => class(Exit::Usage, &["inventory"]),
        }
    }
}

impl Classify for ProfileError {
    fn class(&self) -> Class {
        match self {
            Self::Unreadable(_) | Self::Empty | Self::Signers(_) | Self::Signature(_) => {
                say(Exit::Damaged, "fetch the profile again at the portal")
            }
            Self::SignedByDeveloper(_) | Self::NoRoot(NoRoot::Path(_)) => {
                say(Exit::Refused, "do not use it; fetch the profile at the portal")
            }
            Self::NoRoot(NoRoot::Lacks(_)) => class(Exit::Refused, &["identity", "accept", "FILE"]),
            Self::Kind(_) | Self::NoApp => {
                say(Exit::Refused, "have a profile made for development, devices, store or in-house")
            }
        }
    }
}

impl Classify for ProfileImportError {
    fn class(&self) -> Class {
        match self {
            Self::Name(_) => again(Exit::Usage, &["--name", "NAME"]),
            Self::SeveralForOneName(_) => (Exit::Usage, Remedy::Without("--name")),
            Self::File(inner) => inner.class(),
            Self::Profile { cause, .. } => cause.class(),
            Self::OtherRoot { .. } => say(
                Exit::Refused,
                "compare the root with the portal's; if it is the right one, name it under `roots` in ninekeys.toml",
            ),
            Self::OtherTeam { .. } => say(
                Exit::Refused,
                "if the team is yours, name it in ninekeys.toml: `team` for the project, or `team` of an app's iOS side",
            ),
            Self::Certificates(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for ProfileExportError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Identifier(_) => again(Exit::Refused, &["--to", "FILE"]),
            Self::Project(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for DeviceFindError {
    fn class(&self) -> Class {
        match self {
            Self::NotFound(_) | Self::NotADevice { .. } => class(Exit::Usage, &["device", "list"]),
        }
    }
}

impl Classify for IdentifierError {
    fn class(&self) -> Class {
        again(Exit::Usage, &["--identifier", "IDENTIFIER"])
    }
}

impl Classify for DeviceAddError {
    fn class(&self) -> Class {
        match self {
            Self::Title(_) => class(Exit::Usage, &["device", "add", "NAME", "--identifier", "IDENTIFIER"]),
            Self::Identifier(inner) => inner.class(),
            Self::NoIdentifier => again(Exit::Usage, &["--identifier", "IDENTIFIER"]),
            Self::NoneAttached => say(
                Exit::Usage,
                "attach the device and unlock it, or type its identifier behind `--identifier` in the place of `--attached`",
            ),
            Self::SeveralAttached(_) => say(
                Exit::Usage,
                "type the identifier of the one that is meant behind `--identifier`, in the place of `--attached`",
            ),
            Self::Known(_) => class(Exit::Refused, &["device", "list"]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for DeviceImportError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::NotText(_) | Self::Empty(_) | Self::Lines(_) => say(
                Exit::Damaged,
                "mend the file: a line for each device, its identifier first and its name behind a tab or a comma",
            ),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for DeviceListError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
        }
    }
}

impl Classify for DeviceRenameError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Title(_) => say(Exit::Usage, "choose another name: 1 to 100 characters, not blanks alone"),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}
