//! Exit codes and remedies of errors about API keys.

use ninekeys_core::token::TokenError;
use ninekeys_ops::apikey::FindError;
use ninekeys_ops::apikey::ask::ApiKeyAskError;
use ninekeys_ops::apikey::import::ApiKeyImportError;
use ninekeys_ops::apikey::password::ApiKeyPasswordError;
use ninekeys_ops::apikey::retire::ApiKeyRetireError;
use ninekeys_ops::apikey::token::ApiKeyTokenError;

use super::{Class, Classify, Exit, again, class, defect, say};

impl Classify for FindError {
    fn class(&self) -> Class {
        match self {
            Self::NotFound(_) | Self::NotAnApiKey { .. } => class(Exit::Usage, &["inventory"]),
        }
    }
}

impl Classify for ApiKeyImportError {
    fn class(&self) -> Class {
        match self {
            Self::Name(_) => again(Exit::Usage, &["--name", "NAME"]),
            Self::Apps(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::NotAKey(path) => class(Exit::Damaged, &["inspect", &path.display().to_string()]),
            Self::NotAPassword(_) => {
                say(Exit::Damaged, "write the password alone into the file, on one line")
            }
            Self::Lacks { .. } => {
                say(Exit::Damaged, "fetch the service account's file again where it was issued")
            }
            Self::Kind { .. } => say(Exit::Refused, "fetch a key of the right kind at the portal"),
            Self::Key(_) => say(Exit::Damaged, "fetch the key again, or have another one made"),
            Self::NotSaid("account") => again(Exit::Usage, &["--account", "ADDRESS"]),
            Self::NotSaid("key id") => again(Exit::Usage, &["--key-id", "ID"]),
            Self::NotSaid(_) => again(Exit::Usage, &["--issuer", "ID"]),
            Self::Id(_) => say(Exit::Usage, "take the ids from the portal as they stand there"),
            Self::Known(name) => class(Exit::Refused, &["show", name]),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for ApiKeyAskError {
    fn class(&self) -> Class {
        match self {
            Self::Name(_) => say(Exit::Usage, "choose another name for the key"),
            Self::Person(_) => again(Exit::Usage, &["--of", "PERSON"]),
            Self::NoRole => again(Exit::Usage, &["--use", "uploads"]),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for ApiKeyPasswordError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::NoPassword(name) => class(Exit::Refused, &["apikey", "token", name]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for TokenError {
    fn class(&self) -> Class {
        match self {
            Self::Minutes => again(Exit::Usage, &["--minutes", "20"]),
            Self::Kind(_) | Self::Key(_) | Self::Encoding => defect(),
        }
    }
}

impl Classify for ApiKeyTokenError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Retired(name) => class(Exit::Refused, &["apikey", "retire", name, "--back"]),
            Self::NoKey(name) => class(Exit::Refused, &["show", name]),
            Self::NoAudience(_) => again(Exit::Usage, &["--audience", "AUDIENCE"]),
            Self::Token(inner) => inner.class(),
            Self::Key(_) => defect(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for ApiKeyRetireError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Already { name, .. } => class(Exit::Refused, &["show", name]),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}
