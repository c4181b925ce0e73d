//! Exit codes and remedies of errors about the store.

use ninekeys_ops::store::StoreRefusal;
use ninekeys_ops::store::advance::AdvanceError;
use ninekeys_ops::store::deliveries::DeliveriesError;
use ninekeys_ops::store::fetch::FetchError;
use ninekeys_ops::store::keys::StoreKeysError;
use ninekeys_ops::store::publish::PublishError;
use ninekeys_ops::store::review::ReviewError;
use ninekeys_ops::store::testers::TestersError;
use ninekeys_ops::store::upload::UploadError;

use super::{Class, Classify, Exit, Remedy, again, class, say};

/// What mends a refusal, as far as it does not depend on what was typed.
fn mends(refusal: &StoreRefusal) -> Class {
    match refusal.rule.as_str() {
        "taken" | "stage-out-of-order" | "share-not-higher" | "unknown" => {
            class(Exit::Portal, &["deliveries"])
        }
        "group-of-another-app" => class(Exit::Portal, &["testers", "list"]),
        "malformed" | "failed" | "limit-reached" | "review-incomplete" => {
            say(Exit::Portal, "mend what it says, and do it again")
        }
        rule => class(Exit::Portal, &["explain", rule]),
    }
}

/// What mends a build that the store does not take.
fn mends_build(build: &str, app: &str, refusal: &StoreRefusal) -> Class {
    match refusal.rule.as_str() {
        "record-missing" => class(Exit::Portal, &["app", "change", app, "--publish"]),
        "enrolment-missing" => class(Exit::Portal, &["keystore", "deposit", "--app", app]),
        "build-number-not-higher" | "version-closed" | "version-not-higher" => {
            class(Exit::Portal, &["upload", build, "--next"])
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
            Self::Refused(refusal) if refusal.rule == "id-unregistered" => {
                class(Exit::Portal, &["prepare", "--app", "APP", "--for", "store"])
            }
            Self::Refused(refusal) => mends(refusal),
        }
    }
}

impl Classify for UploadError {
    fn class(&self) -> Class {
        match self {
            Self::Check(inner) => inner.class(),
            // what is said again there is said to `sign`
            Self::Sign(inner) => match inner.class() {
                (exit, Remedy::Again(with)) => {
                    let words = ["sign", "BUILD", "--for", "store"].map(str::to_owned);
                    (exit, Remedy::Command(words.into_iter().chain(with).collect()))
                }
                other => other,
            },
            Self::File(inner) => inner.class(),
            Self::AFolder(_) => say(Exit::Usage, "name the file that `ninekeys sign --for store` wrote"),
            Self::NoApp(_) => again(Exit::Usage, &["--app", "APP"]),
            Self::ForAnotherStore { signed_for: Some(store), wanted: None, .. } => {
                again(Exit::Refused, &["--store", store])
            }
            Self::ForAnotherStore { build, .. } => class(Exit::Refused, &["sign", build, "--for", "store"]),
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
            Self::NoText(_) => again(Exit::Usage, &["--new", "TEXT"]),
            Self::OtherBytes(_) => class(Exit::Portal, &["deliveries"]),
            Self::Review(inner) => inner.class(),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Store(inner) => inner.class(),
            Self::Refused(refusal) => mends(refusal),
        }
    }
}

impl Classify for StoreKeysError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Unkept(inner) => again(inner.class().0, &[]),
            Self::UnknownApp(_) | Self::NotAndroid(_) => class(Exit::Usage, &["app", "list"]),
            Self::Signer(inner) => inner.class(),
            Self::Import(inner) => inner.class(),
            Self::SeveralUploadKeys { names, .. } => {
                again(Exit::Usage, &["--upload", names.first().map_or("NAME", String::as_str)])
            }
            Self::NoUploadKey(app) => {
                class(Exit::Refused, &["keystore", "create", "NAME", "--app", app, "--kind", "upload"])
            }
            Self::Find(inner) => inner.class(),
            Self::NotForUploads { keystore, app } => {
                class(Exit::Refused, &["keystore", "change", keystore, "--add-app", app, "--kind", "upload"])
            }
            Self::NotSure(_) => again(Exit::Refused, &["--yes"]),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Envelope(_) | Self::Key(_) => {
                say(Exit::Portal, "ask whoever runs the store for a key that can be encrypted to")
            }
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Store(inner) => inner.class(),
            Self::Refused(refusal) if refusal.rule == "record-missing" => {
                class(Exit::Portal, &["app", "change", "APP", "--publish"])
            }
            Self::Refused(refusal) => mends(refusal),
            Self::OtherKey { .. } => say(Exit::Portal, "upload nothing, and ask whoever runs the store"),
        }
    }
}

impl Classify for FetchError {
    fn class(&self) -> Class {
        match self {
            Self::Store(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::OtherBytes(_) => again(Exit::Portal, &[]),
            Self::Stopped => again(Exit::Stopped, &[]),
        }
    }
}

impl Classify for TestersError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::File(inner) => inner.class(),
            Self::Nobody(_) | Self::Lines(_) => {
                say(Exit::Usage, "a line has an address and a name: ana@gannetpoint.example, Ana")
            }
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Store(inner) => inner.class(),
            Self::Refused(refusal) if refusal.rule == "unknown" => class(Exit::Portal, &["testers", "list"]),
            Self::Refused(refusal) => mends(refusal),
            Self::Partly { .. } => again(Exit::Portal, &[]),
        }
    }
}

/// The command that says what a review wants to know.
fn says_missing(app: &str, missing: &[String]) -> Vec<String> {
    let mut words = vec!["app".to_owned(), "change".into(), app.into()];
    for one in missing {
        match one.split_once('.') {
            Some((_, question)) => words.extend(["--declare".to_owned(), format!("{question}=ANSWER")]),
            None => words.extend(["--review-contact".to_owned(), "NAME <ADDRESS>".to_owned()]),
        }
    }
    words
}

impl Classify for ReviewError {
    fn class(&self) -> Class {
        match self {
            Self::Missing { app, missing } => (Exit::Refused, Remedy::Command(says_missing(app, missing))),
            Self::WhatsNew => again(Exit::Usage, &["--new", "TEXT"]),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Project(inner) => inner.class(),
            Self::Login(inner) => inner.class(),
            Self::NoPassword(_) => say(
                Exit::Refused,
                "keep one: `ninekeys apikey import NAME --account ACCOUNT --label LABEL --password-in FILE`",
            ),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}
