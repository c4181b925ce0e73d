//! Exit codes and remedies of errors about the portal.

use ninekeys_core::model::ApiRole;
use ninekeys_ops::apikey::create::ApiKeyCreateError;
use ninekeys_ops::identity::revoke::IdentityRevokeError;
use ninekeys_ops::portal::ConnectError;
use ninekeys_ops::portal::take_in::PortalTakeInError;
use ninekeys_ops::prepare::PrepareError;
use ninekeys_ops::profile::create::ProfileCreateError;
use ninekeys_ops::stand_in::StandInServeError;
use ninekeys_portal::client::PortalError;
use ninekeys_portal::stand_in::StandInError;

use super::{Class, Classify, Exit, again, class, defect, say};
use crate::store::{Either, either};

/// An address that is none.
const ADDRESS: Either = [
    "mend `portal` in ninekeys.toml: https://HOST:PORT, or http://127.0.0.1:PORT on this machine",
    "mend `address` of that store in ninekeys.toml: https://HOST:PORT, or http://127.0.0.1:PORT on this machine",
];
/// An address on another machine has to be sealed.
const SEALED: Either = [
    "write `portal = \"https://HOST:PORT\"` into ninekeys.toml, with `portal-certificate` for who answers there",
    "write `address = \"https://HOST:PORT\"` for that store into ninekeys.toml, with `certificate` for who answers there",
];
/// Nobody is known to answer there.
const PINNED: Either = [
    "write `portal-certificate = \"FILE\"` into ninekeys.toml: the certificate that the portal shows",
    "write `certificate = \"FILE\"` for that store into ninekeys.toml: the certificate that it shows",
];
/// The file of who answers there cannot be used.
const PIN: Either = [
    "mend the file that `portal-certificate` in ninekeys.toml names: the certificate that the portal shows",
    "mend the file that `certificate` of that store in ninekeys.toml names: the certificate that it shows",
];
/// Somebody else answers there.
const WHERE: Either = [
    "see whether `portal` in ninekeys.toml is the portal's address; if it is, tell who runs the portal",
    "see whether `address` in ninekeys.toml is that store's; if it is, tell who runs it",
];

impl Classify for PortalError {
    fn class(&self) -> Class {
        match self {
            Self::Address(_) => say(Exit::Usage, either(ADDRESS)),
            Self::NotLoopback(_) => say(Exit::Usage, either(SEALED)),
            Self::NotPinned(_) => say(Exit::Usage, either(PINNED)),
            Self::Pin(_) => say(Exit::Damaged, either(PIN)),
            Self::Unreachable { .. } => say(
                Exit::Portal,
                "see whether the portal is there: `ninekeys stand-in serve` says its address when it starts",
            ),
            Self::Refused(problem) if problem.kind == "limit-reached" => say(
                Exit::Portal,
                "revoke one that nothing uses: `ninekeys inventory` says what is used, `ninekeys identity revoke NAME` revokes",
            ),
            Self::Refused(problem) if problem.needs.is_some() => {
                let role = problem.needs.unwrap_or(ApiRole::Owner).to_string();
                class(
                    Exit::Portal,
                    &[
                        "apikey", "import", "FILE", "--name", "NAME", "--key-id", "ID", "--issuer", "ID",
                        "--role", &role,
                    ],
                )
            }
            Self::Refused(problem) if problem.kind == "unauthorized" => say(
                Exit::Portal,
                "compare key id and issuer, or account and upload password, with the portal's, and this machine's clock",
            ),
            Self::Refused(_) => say(Exit::Portal, "mend what it says, and do it again"),
            Self::Failed { status, .. } if *status >= 500 || *status == 429 => again(Exit::Portal, &[]),
            Self::Failed { .. } | Self::Answer(_) | Self::TooLarge(_) => say(Exit::Portal, either(WHERE)),
            Self::Token(_) => defect(),
        }
    }
}

impl Classify for ConnectError {
    fn class(&self) -> Class {
        match self {
            Self::NoAddress => {
                say(Exit::Refused, "write `portal = \"http://127.0.0.1:PORT\"` into ninekeys.toml")
            }
            Self::NoKey { role, store } => {
                let role = role.to_string();
                let mut words = vec!["apikey", "import", "FILE", "--name", "NAME", "--key-id", "ID"];
                words.extend(["--issuer", "ID", "--role", role.as_str()]);
                words.extend(store.iter().flat_map(|store| ["--store", store.as_str()]));
                class(Exit::Refused, &words)
            }
            Self::Key(_) => defect(),
            Self::Portal(inner) => inner.class(),
            Self::Pin(inner) => inner.class(),
            Self::SeveralPins(_) => say(
                Exit::Damaged,
                "leave the one that the portal shows in the file that `portal-certificate` names",
            ),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for StandInServeError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::StandIn(inner) => match inner {
                StandInError::Folder { .. } => again(Exit::Damaged, &["--folder", "FOLDER"]),
                StandInError::State(_) | StandInError::Damaged(_) => {
                    again(Exit::Damaged, &["--folder", "FOLDER"])
                }
                StandInError::Certificate(_) | StandInError::Key(_) | StandInError::Tls(_) => defect(),
                StandInError::Listen { .. } => again(Exit::Damaged, &["--listen", "127.0.0.1:0"]),
                StandInError::Taken(_) => again(Exit::Refused, &["--folder", "FOLDER"]),
                StandInError::NotLoopback(_) => again(Exit::Refused, &["--listen", "127.0.0.1:0"]),
            },
        }
    }
}

impl Classify for PrepareError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::NotIos(_) => class(Exit::Usage, &["app", "list"]),
            Self::Destination(_) => again(Exit::Usage, &["--for", "store"]),
            Self::NoDevices(_) => {
                class(Exit::Refused, &["device", "add", "NAME", "--identifier", "IDENTIFIER"])
            }
            Self::NotSure(_) => again(Exit::Refused, &["--yes"]),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Connect(inner) => inner.class(),
            Self::Portal(inner) => inner.class(),
            Self::Unfit(inner) => inner.class(),
            Self::OtherKey => say(Exit::Portal, "tell who runs the portal"),
            Self::Profile(inner) => inner.class(),
            Self::Certificates(inner) => inner.class(),
            Self::Certificate(inner) => inner.class(),
            Self::HalfWay { cause, .. } => cause.class(),
            Self::Key(_) => defect(),
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for ProfileCreateError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::NoApp(name) => class(Exit::Refused, &["show", name]),
            Self::Fits(name) => class(Exit::Refused, &["profile", "renew", name]),
            Self::NoIdentity { app, destination } => {
                class(Exit::Refused, &["prepare", "--app", app, "--for", &destination.to_string()])
            }
            Self::NotUsable { usable, .. } => {
                again(Exit::Refused, &["--identity", usable.first().map_or("NAME", String::as_str)])
            }
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Prepare(inner) => inner.class(),
        }
    }
}

impl Classify for IdentityRevokeError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::NoCertificate(name) => class(Exit::Refused, &["show", name]),
            Self::NotSure { .. } => again(Exit::Refused, &["--yes"]),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Project(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Portal(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) | Self::Unnoted { cause: inner } => inner.class(),
        }
    }
}

impl Classify for PortalTakeInError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Portal(inner) => inner.class(),
            Self::Unreadable(_) | Self::Identifier(_) | Self::Title(_) | Self::Id(_) => {
                say(Exit::Portal, "tell who runs the portal")
            }
            Self::Unfit(inner) => inner.class(),
            Self::Profile(inner) => inner.class(),
            Self::App { .. } | Self::Extension { .. } => {
                class(Exit::Refused, &["app", "add", "NAME", "--bundle-id", "ID"])
            }
            Self::Certificates(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::HalfWay { cause, .. } => cause.class(),
        }
    }
}

impl Classify for ApiKeyCreateError {
    fn class(&self) -> Class {
        match self {
            Self::Name(_) => say(Exit::Usage, "choose another name for the key"),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::NoRole => again(Exit::Usage, &["--use", "uploads"]),
            Self::Lost { .. } => say(
                Exit::Portal,
                "revoke at the portal what did not arrive, and have another made under another name",
            ),
            Self::Id(_) | Self::Unreadable => say(Exit::Portal, "tell who runs the portal"),
            Self::HalfWay { cause, .. } => cause.class(),
            Self::Key(_) => defect(),
            Self::Project(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Portal(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}
