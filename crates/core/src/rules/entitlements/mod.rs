//! Rules about what an app may do: what it has to claim, and what its profile grants.

mod build;

use super::{Notes, Rule, Subject};
use crate::findings::{Level, Mend, Observation};
use crate::ios::entitlements::grants;
use crate::ios::profile::PUSH;
use crate::ios::setup::{Part, ProfileChoice, Setup};
use crate::model::Destination;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "entitlement-missing",
        level: Level::Error,
        about: "the profile does not grant what the app has to claim",
        meaning: "An app may claim only what its profile grants; what it lacks does not work, or the build is refused.",
        remedy: "switch it on at the portal, and have the profile made again",
        subjects: &[Subject::Ios(build::missing), Subject::Setup(missing)],
    },
    Rule {
        name: "entitlement-value-differs",
        level: Level::Error,
        about: "the profile grants another value than the app has to claim",
        meaning: "An entitlement with a value that the profile does not grant is refused as one that it lacks.",
        remedy: "make project file and portal agree, and have the profile made again",
        subjects: &[Subject::Ios(build::value_differs), Subject::Setup(value_differs)],
    },
    Rule {
        name: "entitlement-not-allowed",
        level: Level::Error,
        about: "the build claims what its profile does not grant",
        meaning: "A device does not start an app that claims more than its profile grants, and the store refuses it.",
        remedy: "sign it again: what is not granted is left out; or have the profile made again with it",
        subjects: &[Subject::Ios(build::not_allowed)],
    },
    Rule {
        name: "entitlement-debug",
        level: Level::Error,
        about: "the build lets debuggers in",
        meaning: "Anyone with a cable can read what it stores and change what it does. Only development builds may, and the \
                  store refuses it.",
        remedy: "sign it again for where it goes",
        subjects: &[Subject::Ios(build::debug)],
    },
    Rule {
        name: "entitlement-encodings-differ",
        level: Level::Error,
        about: "the two encodings of what the build claims do not say the same",
        meaning: "Older systems read the property list, newer ones the DER: the build would be two on them.",
        remedy: "sign it again",
        subjects: &[Subject::Ios(build::encodings_differ)],
    },
    Rule {
        name: "entitlement-push-environment",
        level: Level::Error,
        about: "the profile is for the other push servers than builds for this destination listen to",
        meaning: "With the sandbox's servers in a build that leaves the house, no notification ever arrives.",
        remedy: "have the profile made again for this destination",
        subjects: &[Subject::Ios(build::push_environment), Subject::Setup(push_environment)],
    },
];

/// The profile of the app itself.
fn profile<'s, 'a>(setup: &'s Setup<'a>, notes: &mut Notes) -> Option<&'s ProfileChoice<'a>> {
    let app = setup.parts.iter().find(|part| part.extension.is_none());
    let taken = app.and_then(Part::taken);
    if taken.is_none() {
        notes.skip("there is no profile that fits");
    }
    taken
}

fn obtain(setup: &Setup<'_>) -> Mend {
    Mend::Prepare { app: setup.wanted.app.to_owned(), destination: setup.wanted.destination }
}

fn missing(setup: &Setup<'_>, notes: &mut Notes) {
    if setup.wanted.ios.entitlements.is_empty() {
        return notes.skip("the project file names no entitlements");
    }
    let Some(profile) = profile(setup, notes) else { return };
    for key in
        setup.wanted.ios.entitlements.keys().filter(|key| !profile.facts.entitlements.contains_key(*key))
    {
        let seen = Observation::new(format!("the profile does not grant {key}")).place(&profile.item.name);
        notes.found(seen.expected(key).mend(obtain(setup)));
    }
}

fn value_differs(setup: &Setup<'_>, notes: &mut Notes) {
    if setup.wanted.ios.entitlements.is_empty() {
        return notes.skip("the project file names no entitlements");
    }
    let Some(profile) = profile(setup, notes) else { return };
    for (key, wanted) in &setup.wanted.ios.entitlements {
        let Some(granted) = profile.facts.entitlements.get(key) else { continue };
        if !grants(granted, wanted) {
            let seen = Observation::new(format!("the profile grants another value of {key}"));
            let seen = seen.expected(wanted).found(granted).place(&profile.item.name);
            notes.found(seen.mend(obtain(setup)));
        }
    }
}

/// What the entitlement calls the servers that builds for a destination listen to.
fn push_servers(destination: Destination) -> &'static str {
    match destination {
        Destination::Development => "development",
        _ => "production",
    }
}

fn push_environment(setup: &Setup<'_>, notes: &mut Notes) {
    let Some(profile) = profile(setup, notes) else { return };
    let Some(found) = profile.facts.entitlements.get(PUSH) else {
        return notes.skip("the profile grants no notifications");
    };
    let wanted = push_servers(setup.wanted.destination);
    if found.text() != Some(wanted) {
        let seen =
            Observation::new("the profile is for the other push servers").expected(wanted).found(found);
        notes.found(seen.place(&profile.item.name).mend(obtain(setup)));
    }
}
