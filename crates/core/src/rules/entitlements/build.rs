//! The same rules on what a build claims.

use std::collections::BTreeMap;

use ninekeys_formats::entitlements::Entitlement;

use super::super::{BuildLook, Notes, because, sign_again};
use super::push_servers;
use crate::findings::Observation;
use crate::ios::entitlements::grants;
use crate::ios::look::{IosLook, PartLook};
use crate::ios::profile::{APPLICATION, DEBUG, PUSH, TEAM, Verified};
use crate::model::{Destination, Ios};

type Claims = BTreeMap<String, Entitlement>;

fn seen(look: &BuildLook<'_>, part: &PartLook<'_>, text: impl Into<String>) -> Observation {
    sign_again(look, Observation::new(text).place(&part.bundle.executable.path))
}

/// What every slice of a part claims, once where they claim the same.
fn claims<'a>(part: &PartLook<'a>) -> Vec<&'a Claims> {
    let mut all: Vec<&Claims> =
        part.signed().filter_map(|(signed, _)| signed.entitlements.as_ref()).collect();
    all.dedup();
    all
}

/// Every part with what it claims and what its profile grants.
fn each(
    ios: &IosLook<'_>,
    notes: &mut Notes,
    mut say: impl FnMut(&PartLook<'_>, &Claims, &Verified, &mut Notes),
) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    for part in &ios.parts {
        for claims in claims(part) {
            if let Some(verified) = part.verified() {
                say(part, claims, verified, notes);
            }
        }
    }
}

/// What is claimed and refused needs no grant.
fn is_claimed(value: &Entitlement) -> bool {
    *value != Entitlement::Flag(false)
}

pub(super) fn not_allowed(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    each(ios, notes, |part, claims, verified, notes| {
        let granted = &verified.profile.entitlements;
        for (key, value) in
            claims.iter().filter(|(key, value)| is_claimed(value) && !granted.contains_key(*key))
        {
            notes.found(
                seen(look, part, format!("it claims {key}, which its profile does not grant")).found(value),
            );
        }
    });
}

pub(super) fn value_differs(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    each(ios, notes, |part, claims, verified, notes| {
        for (key, granted) in &verified.profile.entitlements {
            let Some(claimed) = claims.get(key) else { continue };
            // debuggers and servers have rules of their own
            if key != DEBUG && key != PUSH && !grants(granted, claimed) {
                let text = format!("it claims another value of {key} than its profile grants");
                notes.found(seen(look, part, text).expected(granted).found(claimed));
            }
        }
        let prefixes = &verified.profile.prefixes;
        let id = part.bundle.id();
        let is_own = |text: &str| {
            text.strip_suffix(id)
                .and_then(|rest| rest.strip_suffix('.'))
                .is_some_and(|prefix| prefixes.iter().any(|known| known == prefix))
        };
        let own = claims.get(APPLICATION).and_then(Entitlement::text);
        if own.is_none_or(|own| !is_own(own)) {
            let wanted = format!("{}.{id}", prefixes.first().map(String::as_str).unwrap_or("TEAM"));
            let seen = seen(look, part, format!("its {APPLICATION} is not its own")).expected(wanted);
            notes.found(seen.found(own.unwrap_or("none")));
        }
        let team = claims.get(TEAM).and_then(Entitlement::text);
        let teams = &verified.profile.teams;
        if team.is_some_and(|team| !teams.iter().any(|known| known == team)) {
            let seen = seen(look, part, format!("its {TEAM} is another team's"));
            notes.found(seen.expected(teams.join(", ")).found(team.unwrap_or_default()));
        }
    });
    compare_with_project(look, ios, |key, wanted, found, part| {
        if let Some(found) = found.filter(|found| *found != wanted && !grants(wanted, found)) {
            let text = format!("it claims another value of {key} than the project file expects");
            notes.found(seen(look, part, text).expected(wanted).found(found));
        }
    });
}

/// What the project file expects of the app and its extensions, beside what they claim.
fn compare_with_project(
    look: &BuildLook<'_>,
    ios: &IosLook<'_>,
    mut say: impl FnMut(&str, &Entitlement, Option<&Entitlement>, &PartLook<'_>),
) {
    let Some(project) = look.app.and_then(|(_, app)| app.ios.as_ref()) else { return };
    for (part, expected) in expected(ios, project) {
        for claims in claims(part) {
            for (key, wanted) in expected {
                say(key, wanted, claims.get(key), part);
            }
        }
    }
}

/// The app and those of its extensions of which the project file says what they claim, with that.
fn expected<'l, 'b>(
    ios: &'l IosLook<'b>,
    project: &'l Ios,
) -> impl Iterator<Item = (&'l PartLook<'b>, &'l Claims)> {
    ios.parts.iter().enumerate().filter_map(|(index, part)| match index {
        0 => Some((part, &project.entitlements)),
        _ => Some((part, project.expected_of(part.bundle.id())?)),
    })
}

pub(super) fn missing(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    let Some(project) = look.app.and_then(|(_, app)| app.ios.as_ref()) else {
        return notes.skip(because::NO_APP);
    };
    let none = BTreeMap::new();
    for (index, (part, expected)) in expected(ios, project).enumerate() {
        let mut all = claims(part);
        if all.is_empty() {
            all.push(&none);
        }
        let wanted = expected.iter().filter(|(_, value)| is_claimed(value)).map(|(key, _)| key.as_str());
        // capabilities are the app's own
        let capabilities = project.capabilities.iter().filter(|_| index == 0).map(|one| one.entitlement());
        let mut wanted: Vec<&str> = wanted.chain(capabilities).collect();
        wanted.sort_unstable();
        wanted.dedup();
        for claims in all {
            for key in wanted.iter().filter(|key| !claims.contains_key(**key)) {
                let text = format!("it does not claim {key}, which the project file expects");
                notes.found(seen(look, part, text).expected(key));
            }
        }
    }
}

pub(super) fn debug(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    let out = look.destination.is_none_or(Destination::leaves_the_house);
    for part in &ios.parts {
        for claims in
            claims(part).into_iter().filter(|claims| claims.get(DEBUG) == Some(&Entitlement::Flag(true)))
        {
            let granted = part.verified().and_then(|verified| verified.profile.entitlements.get(DEBUG));
            let debug = Some(&Entitlement::Flag(true));
            if out || (part.verified().is_some() && granted != debug) {
                let text = "it lets debuggers in, and only development builds may";
                notes.found(
                    seen(look, part, text).expected("no").found(claims.get(DEBUG).map_or("", |_| "yes")),
                );
            }
        }
    }
}

pub(super) fn push_environment(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    let Some(destination) = look.destination else { return notes.skip("where it goes is not known") };
    each(ios, notes, |part, claims, verified, notes| {
        let Some(found) = claims.get(PUSH) else { return };
        let wanted = push_servers(destination);
        let granted = verified.profile.entitlements.get(PUSH);
        if found.text() != Some(wanted) || granted.is_some_and(|granted| granted != found) {
            let text = "it listens to other push servers than builds for this destination do";
            notes.found(seen(look, part, text).expected(wanted).found(found));
        }
    });
}

pub(super) fn encodings_differ(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    for part in &ios.parts {
        for (signed, _) in part.signed().filter(|(signed, _)| signed.entitlements != signed.entitlements_der)
        {
            let text = match (&signed.entitlements, &signed.entitlements_der) {
                (Some(_), None) => {
                    "what it claims stands there as a property list alone, and newer systems read the DER"
                }
                (None, Some(_)) => {
                    "what it claims stands there in DER alone, and older systems read the property list"
                }
                _ => "the two encodings of what it claims say different things",
            };
            notes.found(seen(look, part, text));
        }
    }
}
