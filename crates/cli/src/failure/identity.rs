//! Exit codes and remedies of errors about identities.

use ninekeys_ops::identity::accept::{IdentityAcceptError, UnfitError};
use ninekeys_ops::identity::export::IdentityExportError;
use ninekeys_ops::identity::import::IdentityImportError;
use ninekeys_ops::identity::request::IdentityRequestError;
use ninekeys_ops::identity::{AppsError, CertificatesError, FindError};
use ninekeys_ops::keystore::PasswordChoiceError;

use super::{Class, Classify, Exit, Remedy, again, class, say};

impl Classify for FindError {
    fn class(&self) -> Class {
        match self {
            Self::NotFound(_) | Self::NotAnIdentity { .. } => class(Exit::Usage, &["inventory"]),
        }
    }
}

impl Classify for AppsError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(app) => class(Exit::Usage, &["app", "add", app, "--bundle-id", "BUNDLE-ID"]),
            Self::NotIos { app, .. } => {
                class(Exit::Usage, &["app", "change", app, "--bundle-id", "BUNDLE-ID"])
            }
        }
    }
}

impl Classify for CertificatesError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::None(path) => class(Exit::Damaged, &["inspect", &path.display().to_string()]),
            Self::Damaged { .. } => say(Exit::Damaged, "fetch the file again where it was issued"),
        }
    }
}

impl Classify for IdentityRequestError {
    fn class(&self) -> Class {
        match self {
            Self::Name(_) => say(Exit::Usage, "choose another name for the identity"),
            Self::NoKind => again(Exit::Usage, &["--kind", "distribution"]),
            Self::NoApp => again(Exit::Usage, &["--app", "APP"]),
            Self::OtherKind { name, .. }
            | Self::NoRequest(name)
            | Self::NoKey(name)
            | Self::KnownKey(name) => class(Exit::Refused, &["show", name]),
            Self::Apps(inner) => inner.class(),
            Self::Find(inner) => inner.class(),
            Self::NotARequest(path) => class(Exit::Damaged, &["inspect", &path.display().to_string()]),
            Self::NotProved(_) => say(Exit::Damaged, "have the request sent again by who made it"),
            Self::Certificate(inner) => inner.class(),
            Self::Key(_) => super::defect(),
            Self::Project(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::File(inner) | Self::NotWritten(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for UnfitError {
    fn class(&self) -> Class {
        match self {
            Self::Unreadable { .. } => say(Exit::Damaged, "fetch the file again where it was issued"),
            Self::NoPurpose(_) | Self::NoTeam(_) => {
                say(Exit::Refused, "fetch a certificate for development, distribution or push at the portal")
            }
            Self::OtherTeam { .. } => say(
                Exit::Refused,
                "if the team is yours, name it in ninekeys.toml: `team` for the project, or `team` of an app's iOS side",
            ),
            Self::Forged { .. } => say(Exit::Refused, "do not use it; fetch the certificate at the portal"),
            Self::NoApp(_) => again(Exit::Usage, &["--app", "APP"]),
        }
    }
}

impl Classify for IdentityAcceptError {
    fn class(&self) -> Class {
        match self {
            Self::Name(_) => again(Exit::Usage, &["--name", "NAME"]),
            Self::SeveralForOneName(_) => (Exit::Usage, Remedy::Without("--name")),
            Self::Apps(inner) => inner.class(),
            Self::Certificates(inner) => inner.class(),
            Self::Unfit(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for IdentityImportError {
    fn class(&self) -> Class {
        match self {
            Self::Name(_) => again(Exit::Usage, &["--name", "NAME"]),
            Self::SeveralForOneName(_) => (Exit::Usage, Remedy::Without("--name")),
            Self::Apps(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Archive(inner) => inner.class(),
            Self::NoIdentity(_) => {
                say(Exit::Refused, "keys of Android apps come in with `ninekeys keystore import`")
            }
            Self::Certificates(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for IdentityExportError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::NoCertificate(_) => class(Exit::Refused, &["identity", "accept", "FILE"]),
            Self::NoKey(_) => again(Exit::Refused, &["--as", "certificate-pem"]),
            Self::ChainLacks { .. } => class(Exit::Refused, &["identity", "accept", "FILE"]),
            Self::Password(PasswordChoiceError::NobodyToAsk) => {
                again(Exit::Usage, &["--password-in", "FILE"])
            }
            Self::Password(inner) => inner.class(),
            Self::NobodyWouldKnow => again(Exit::Refused, &["--note-password", "NOTE"]),
            Self::NothingToOpen => (Exit::Usage, Remedy::Without("--as")),
            Self::Certificates(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::Format(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}
