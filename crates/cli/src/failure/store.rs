//! Exit codes and remedies of errors about the store.

use ninekeys_ops::store::StoreRefusal;
use ninekeys_ops::store::advance::AdvanceError;
use ninekeys_ops::store::deliveries::DeliveriesError;
use ninekeys_ops::store::publish::PublishError;
use ninekeys_ops::store::upload::UploadError;

use super::{Class, Classify, Exit, again, class, say};

/// What mends a refusal, as far as it does not depend on what was typed.
fn mends(refusal: &StoreRefusal) -> Class {
    match refusal.rule.as_str() {
        "taken" | "stage-out-of-order" | "unknown" => class(Exit::Portal, &["deliveries"]),
        "malformed" | "failed" => say(Exit::Portal, "mend what it says, and do it again"),
        rule => class(Exit::Portal, &["explain", rule]),
    }
}

/// What mends a build that the store does not take.
fn mends_build(build: &str, app: &str, refusal: &StoreRefusal) -> Class {
    let needed = refusal.needed.as_deref().unwrap_or("NUMBER");
    match refusal.rule.as_str() {
        "record-missing" => class(Exit::Portal, &["app", "change", app, "--publish"]),
        "build-number-not-higher" => {
            class(Exit::Portal, &["sign", build, "--for", "store", "--set-build", needed])
        }
        "version-closed" | "version-not-higher" => {
            class(Exit::Portal, &["sign", build, "--for", "store", "--set-version", needed])
        }
        _ => mends(refusal),
    }
}

impl Classify for PublishError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Store(inner) => inner.class(),
            Self::Refused(refusal) if refusal.rule == "taken" => {
                say(Exit::Portal, "choose another title (`--title`) or SKU (`--sku`)")
            }
            Self::Refused(refusal) => mends(refusal),
        }
    }
}

impl Classify for UploadError {
    fn class(&self) -> Class {
        match self {
            Self::Check(inner) => inner.class(),
            Self::Sign(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::AFolder(_) => say(Exit::Usage, "name the file that `ninekeys sign --for store` wrote"),
            Self::NoApp(_) => again(Exit::Usage, &["--app", "APP"]),
            Self::Changed(_) => again(Exit::Damaged, &[]),
            Self::Stopped => again(Exit::Stopped, &[]),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Store(inner) => inner.class(),
            Self::Refused { build, app, refusal } => mends_build(build, app, refusal),
        }
    }
}

impl Classify for DeliveriesError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::Open(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Store(inner) => inner.class(),
        }
    }
}

impl Classify for AdvanceError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Unknown(_) | Self::Ambiguous { .. } => class(Exit::Usage, &["deliveries"]),
            Self::NotSure(_) => again(Exit::Refused, &["--yes"]),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Store(inner) => inner.class(),
            Self::Refused(refusal) => mends(refusal),
        }
    }
}
