//! Exit codes and remedies of errors about apps.

use ninekeys_ops::app::add::{AppAddError, IdError};
use ninekeys_ops::app::change::AppChangeError;
use ninekeys_ops::app::ios::IosError;
use ninekeys_ops::app::list::AppListError;
use ninekeys_ops::app::next::AppNextError;
use ninekeys_ops::app::remove::AppRemoveError;
use ninekeys_ops::app::statement::AppStatementError;

use super::{Class, Classify, Exit, again, class, say};

impl Classify for AppAddError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Exists(_) => class(Exit::Refused, &["app", "list"]),
            Self::Name(_) => say(Exit::Usage, "choose another name; `--title` takes what people call it"),
            Self::NoSide => again(Exit::Usage, &["--package", "PACKAGE"]),
            Self::Id(inner) => inner.class(),
            Self::Ios(inner) => inner.class(),
            Self::Ask(_) => again(Exit::Usage, &[]),
            Self::Destination { .. } => class(Exit::Usage, &["app", "add", "--help"]),
            Self::Publish(inner) => inner.class(),
        }
    }
}

impl Classify for IdError {
    fn class(&self) -> Class {
        match self {
            Self::Shape(_) => {
                say(Exit::Usage, "take the id from the build: `ninekeys inspect BUILD` shows it")
            }
            Self::TeamPrefix { without, .. } => again(Exit::Usage, &["--bundle-id", without]),
            Self::Taken { .. } => class(Exit::Refused, &["app", "list"]),
        }
    }
}

impl Classify for IosError {
    fn class(&self) -> Class {
        match self {
            Self::NoIosSide(_) => again(Exit::Usage, &["--bundle-id", "BUNDLE-ID"]),
            Self::Team(_) => again(Exit::Usage, &["--team", "TEAM"]),
            Self::Name(_) | Self::NotInside { .. } => again(Exit::Usage, &["--extension", "NAME=BUNDLE-ID"]),
            Self::Id(IdError::TeamPrefix { .. }) => again(Exit::Usage, &["--extension", "NAME=BUNDLE-ID"]),
            Self::Id(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Entitlements { .. } | Self::Values(_) => {
                say(Exit::Damaged, "name a property list in XML, as the app's project has it")
            }
        }
    }
}

impl Classify for AppListError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
        }
    }
}

impl Classify for AppChangeError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::NothingToChange => class(Exit::Usage, &["app", "change", "--help"]),
            Self::Title(_) => again(Exit::Usage, &["--title", "TITLE"]),
            Self::Id(inner) => inner.class(),
            Self::Ios(inner) => inner.class(),
            Self::Destination { .. } => class(Exit::Usage, &["app", "change", "--help"]),
            Self::Publish(inner) => inner.class(),
        }
    }
}

impl Classify for AppNextError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            // what is signed is known here, whatever the store does
            Self::Store(_) => again(Exit::Portal, &["--ledger-alone"]),
        }
    }
}

impl Classify for AppRemoveError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::NotSure { .. } => again(Exit::Refused, &["--yes"]),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Open(inner) => inner.class(),
        }
    }
}

impl Classify for AppStatementError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::NotAndroid(app) => class(Exit::Usage, &["app", "change", app, "--package", "PACKAGE"]),
            Self::NoKey(app) => {
                let name = format!("{app}-signing");
                class(Exit::Refused, &["keystore", "create", &name, "--app", app, "--common-name", "NAME"])
            }
            Self::Open(inner) => inner.class(),
        }
    }
}
