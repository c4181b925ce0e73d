//! Rules about provisioning profiles: whether one fits, and what speaks against each that could.

mod build;

use jiff::SignedDuration;

use super::identity::{day, short};
use super::{Notes, Rule, Subject};
use crate::findings::{Level, Mend, Observation};
use crate::ios::setup::{AgainstProfile, Part, ProfileChoice, Setup, signs_for};
use crate::model::{Capability, DeviceFacts, Item};

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "profile-missing",
        level: Level::Error,
        about: "there is no profile for the app and the destination",
        meaning: "A device runs a build only under a profile that ties app, certificate and destination together.",
        remedy: "have a profile made for this app and destination, and take it in",
        subjects: &[Subject::Ios(build::missing), Subject::Setup(missing)],
    },
    Rule {
        name: "profile-expired",
        level: Level::Error,
        about: "the profile has ended",
        meaning: "Stores refuse a build whose profile has ended, and devices stop running what was installed with it.",
        remedy: "have it made again, and take it in",
        subjects: &[Subject::Ios(build::expired), Subject::Setup(expired)],
    },
    Rule {
        name: "profile-expires-soon",
        level: Level::Warning,
        about: "the profile ends within the days that the project's policy gives",
        meaning: "Builds on registered devices and in-house builds stop running on that day; a store's go on.",
        remedy: "have it made again before that day",
        subjects: &[Subject::Ios(build::expires_soon), Subject::Setup(expires_soon)],
    },
    Rule {
        name: "profile-kind-wrong",
        level: Level::Error,
        about: "the profile is for another destination",
        meaning: "A build under a profile for devices is refused by the store, and one under a profile for the store runs on \
                  no device.",
        remedy: "take a profile of the right kind",
        subjects: &[Subject::Ios(build::kind_wrong), Subject::Setup(kind_wrong)],
    },
    Rule {
        name: "profile-app-mismatch",
        level: Level::Error,
        about: "the profile is for another app",
        meaning: "The bundle id of a build has to be the one that its profile names.",
        remedy: "take the profile of this app",
        subjects: &[Subject::Ios(build::app_mismatch), Subject::Setup(app_mismatch)],
    },
    Rule {
        name: "profile-team-mismatch",
        level: Level::Error,
        about: "the profile was issued to another team",
        meaning: "Identity, profile and app belong to one team, or a device refuses the build.",
        remedy: "take a profile of the app's team",
        subjects: &[Subject::Ios(build::team_mismatch), Subject::Setup(team_mismatch)],
    },
    Rule {
        name: "profile-lacks-identity",
        level: Level::Error,
        about: "the profile does not name the certificate that would sign",
        meaning: "A build is refused when its signer is not among the certificates that its profile names.",
        remedy: "have the profile made again with this certificate",
        subjects: &[Subject::Ios(build::lacks_identity), Subject::Setup(lacks_identity)],
    },
    Rule {
        name: "profile-lacks-device",
        level: Level::Warning,
        about: "a registered device is not among those that the profile allows",
        meaning: "The build does not run on that device.",
        remedy: "have the profile made again with this device",
        subjects: &[Subject::Ios(build::lacks_device), Subject::Setup(lacks_device)],
    },
    Rule {
        name: "profile-older-than-devices",
        level: Level::Warning,
        about: "devices were registered after the profile was made",
        meaning: "The build does not run on them: a profile allows the devices that it was made with.",
        remedy: "have the profile made again",
        subjects: &[Subject::Setup(older_than_devices)],
    },
    Rule {
        name: "profile-older-than-app",
        level: Level::Error,
        about: "the profile does not grant a capability that the app has",
        meaning: "A capability that is switched on after a profile was made is not in it: the build is refused, or the \
                  capability does not work.",
        remedy: "have the profile made again",
        subjects: &[Subject::Setup(older_than_app)],
    },
    Rule {
        name: "profile-signature-invalid",
        level: Level::Error,
        about: "the profile was not verified up to a root that the project names",
        meaning: "Who can make up a profile can make a device run what the team did not sign.",
        remedy: "name the root in the project file, and import the profile again",
        subjects: &[Subject::Ios(build::signature_invalid), Subject::Setup(signature_invalid)],
    },
];

fn label(part: &Part<'_>) -> String {
    part.extension.map_or_else(|| part.bundle_id.to_owned(), |name| format!("{} ({name})", part.bundle_id))
}

fn called(choice: &ProfileChoice<'_>) -> String {
    format!("{} ({})", choice.item.name, choice.facts.title)
}

fn obtain(setup: &Setup<'_>) -> Mend {
    Mend::Prepare { app: setup.wanted.app.to_owned(), destination: setup.wanted.destination }
}

/// What is said of the profiles of a part that has none to take: of the one that comes nearest as the rule says, of others
/// as a note.
fn each(
    setup: &Setup<'_>,
    notes: &mut Notes,
    say: impl Fn(&AgainstProfile, &Part<'_>) -> Option<Observation>,
) {
    for part in setup.parts.iter().filter(|part| part.taken().is_none()) {
        let nearest = part.nearest();
        for choice in &part.profiles {
            for seen in choice.against.iter().filter_map(|against| say(against, part)) {
                let seen = seen.place(called(choice));
                notes.found(if nearest == Some(choice) {
                    seen.mend(obtain(setup))
                } else {
                    seen.level(Level::Note)
                });
            }
        }
    }
}

/// The profile of every part that has one to take.
fn taken<'s, 'a>(setup: &'s Setup<'a>, notes: &mut Notes) -> Vec<(&'s Part<'a>, &'s ProfileChoice<'a>)> {
    let all: Vec<_> = setup.parts.iter().filter_map(|part| Some((part, part.taken()?))).collect();
    if all.is_empty() {
        notes.skip("there is no profile that fits");
    }
    all
}

fn missing(setup: &Setup<'_>, notes: &mut Notes) {
    for part in setup.parts.iter().filter(|part| part.taken().is_none() && part.nearest().is_none()) {
        let to = setup.wanted.destination.phrase();
        let text = match part.profiles.is_empty() {
            true => format!("there is no profile for {} for {to}", label(part)),
            false => {
                format!("no profile fits {} for {to}", label(part))
            }
        };
        notes.found(Observation::new(text).place(label(part)).mend(obtain(setup)));
    }
}

fn expired(setup: &Setup<'_>, notes: &mut Notes) {
    each(setup, notes, |against, _| match against {
        AgainstProfile::Ended(end) => {
            Some(Observation::new("this profile has ended").found(format!("ended {}", day(*end))))
        }
        AgainstProfile::NotYet(begin) => {
            Some(Observation::new("this profile is not good yet").found(format!("begins {}", day(*begin))))
        }
        _ => None,
    });
}

fn expires_soon(setup: &Setup<'_>, notes: &mut Notes) {
    let wait = SignedDuration::from_hours(24 * i64::from(setup.wanted.policy.due_days));
    for (_, choice) in taken(setup, notes) {
        let left = choice.facts.not_after.duration_since(setup.wanted.now);
        if left < wait {
            let text = format!("this profile ends in {} days", left.as_hours() / 24);
            let seen = Observation::new(text).found(day(choice.facts.not_after)).place(called(choice));
            notes.found(seen.mend(successor(setup, choice)));
        }
    }
}

/// What brings a profile's successor: where its identity falls due as well, the rotation of that, which takes the
/// profiles along.
fn successor(setup: &Setup<'_>, choice: &ProfileChoice<'_>) -> Mend {
    let Some(identity) = setup.taken() else { return obtain(setup) };
    let both = identity.certificate.is_some_and(|certificate| super::identity::due(setup, certificate));
    Mend::Rotate { item: if both { identity.item.name.clone() } else { choice.item.name.clone() } }
}

fn kind_wrong(setup: &Setup<'_>, notes: &mut Notes) {
    each(setup, notes, |against, _| match against {
        AgainstProfile::Kind(found) => {
            let text = format!("this profile is for {}", found.phrase());
            Some(Observation::new(text).expected(setup.wanted.destination).found(found))
        }
        _ => None,
    });
}

fn app_mismatch(setup: &Setup<'_>, notes: &mut Notes) {
    each(setup, notes, |against, part| match against {
        AgainstProfile::App(found) => {
            let seen = Observation::new("this profile is for another app");
            Some(seen.expected(part.bundle_id).found(found))
        }
        _ => None,
    });
}

fn team_mismatch(setup: &Setup<'_>, notes: &mut Notes) {
    let Some(team) = setup.wanted.team else { return notes.skip("the project file names no team") };
    each(setup, notes, |against, _| match against {
        AgainstProfile::OtherTeam(found) => {
            Some(Observation::new("this profile was issued to another team").expected(team).found(found))
        }
        _ => None,
    });
}

fn lacks_identity(setup: &Setup<'_>, notes: &mut Notes) {
    each(setup, notes, |against, _| match against {
        AgainstProfile::LacksIdentity(fingerprints) => {
            let yours: Vec<String> = fingerprints.iter().map(|one| short(one)).collect();
            let text = format!("this profile lacks your certificate {}", yours.join(" and "));
            Some(Observation::new(text))
        }
        AgainstProfile::OnlyRevoked => {
            Some(Observation::new("every certificate that this profile allows was revoked"))
        }
        _ => None,
    });
    // one that has the certificate of another purpose beside ours was put together by hand
    let wanted = signs_for(setup.wanted.destination);
    for (_, choice) in setup.parts.iter().filter_map(|part| Some((part, part.taken()?))) {
        for (item, identity) in &setup.wanted.roster.identities {
            let named = identity.certificate.is_some_and(|id| choice.facts.certificates.contains(&id));
            if named && identity.purpose.nine_key() != wanted {
                let text =
                    format!("this profile names {}, a {}", item.name, identity.purpose.nine_key().word());
                let seen = Observation::new(text).expected(wanted.word()).level(Level::Warning);
                notes.found(seen.place(called(choice)));
            }
        }
    }
}

/// How many devices are named.
const MOST_NAMED: usize = 3;

/// Names, and how many more there are; nothing for none.
fn named<'a>(mut all: impl Iterator<Item = (&'a Item, &'a DeviceFacts)>) -> Option<String> {
    let first = all.by_ref().take(MOST_NAMED).map(|(_, facts)| facts.title.as_str());
    let names = first.collect::<Vec<&str>>().join(", ");
    match all.count() {
        0 if names.is_empty() => None,
        0 => Some(names),
        more => Some(format!("{names} and {more} more")),
    }
}

fn lacks_device(setup: &Setup<'_>, notes: &mut Notes) {
    devices(setup, notes, false, "this profile lacks");
}

fn older_than_devices(setup: &Setup<'_>, notes: &mut Notes) {
    devices(setup, notes, true, "registered after this profile was made:");
}

fn devices(setup: &Setup<'_>, notes: &mut Notes, later: bool, say: &str) {
    if !setup.wanted.destination.has_devices() {
        return notes.skip("builds for this destination are not for single devices");
    }
    for (_, choice) in taken(setup, notes) {
        let left_out = setup.wanted.roster.left_out(setup.wanted.inventory, choice.facts);
        let of_then = left_out.filter(|(item, _)| (item.created > choice.facts.not_before) == later);
        if let Some(names) = named(of_then) {
            notes.found(Observation::new(format!("{say} {names}")).place(called(choice)).mend(obtain(setup)));
        }
    }
}

fn older_than_app(setup: &Setup<'_>, notes: &mut Notes) {
    if setup.wanted.ios.capabilities.is_empty() {
        return notes.skip("the app has no capabilities in the project file");
    }
    // what is inside the app has capabilities of its own
    let app = setup.parts.iter().find(|part| part.extension.is_none());
    let Some(choice) = app.and_then(Part::taken) else { return notes.skip("there is no profile that fits") };
    let lacks = |capability: &&Capability| !choice.facts.entitlements.contains_key(capability.entitlement());
    for capability in setup.wanted.ios.capabilities.iter().filter(lacks) {
        let text = format!("this profile does not grant {}: it is older than that", capability.word());
        let seen = Observation::new(text).expected(capability.entitlement()).place(called(choice));
        notes.found(seen.mend(obtain(setup)));
    }
}

fn signature_invalid(setup: &Setup<'_>, notes: &mut Notes) {
    if setup.wanted.roots.is_empty() {
        return notes.skip("the project file names no roots");
    }
    let known: Vec<String> =
        setup.wanted.roots.iter().map(|root| crate::digest::sha256_hex(&root.der)).collect();
    for (_, choice) in taken(setup, notes) {
        if !choice.facts.root.as_ref().is_some_and(|root| known.contains(root)) {
            let seen = Observation::new("this profile was verified to no root that the project names now");
            notes.found(seen.place(called(choice)).mend(obtain(setup)));
        }
    }
}
