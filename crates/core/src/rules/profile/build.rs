//! The same rules on the profiles that lie in a build.

use jiff::{SignedDuration, Timestamp};

use super::super::identity::{day, short, time};
use super::super::{BuildLook, Notes, because, sign_again};
use crate::digest::sha256_hex;
use crate::findings::{Level, Mend, Observation};
use crate::ios::look::{IosLook, PartLook};
use crate::ios::package::PROFILE;
use crate::ios::profile::{Verified, is_for};

fn place(part: &PartLook<'_>) -> String {
    format!("{}/{PROFILE}", part.bundle.path)
}

fn seen(look: &BuildLook<'_>, part: &PartLook<'_>, text: impl Into<String>) -> Observation {
    sign_again(look, Observation::new(text).place(place(part)))
}

/// Every profile that could be opened; where there is none, the rule is skipped.
fn each(ios: &IosLook<'_>, notes: &mut Notes, mut say: impl FnMut(&PartLook<'_>, &Verified, &mut Notes)) {
    let mut any = false;
    for part in &ios.parts {
        if let Some(verified) = part.verified() {
            any = true;
            say(part, verified, notes);
        }
    }
    if !any {
        notes.skip("there is no profile in it that holds");
    }
}

pub(super) fn missing(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    for part in ios.parts.iter().filter(|part| part.profile.is_none()) {
        let text = format!("the {} has no profile in it", part.bundle.kind.word());
        notes.found(seen(look, part, text));
    }
}

pub(super) fn signature_invalid(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    for part in &ios.parts {
        match &part.profile {
            None => {}
            Some(Err(error)) => {
                let text = "this profile is not to be believed";
                notes.found(seen(look, part, text).found(error));
            }
            Some(Ok(verified)) => {
                let roots = ios.against.roots;
                let root = verified.root().map(|root| &root.der);
                if !roots.is_empty() && !roots.iter().any(|known| Some(&known.der) == root) {
                    let text = "this profile leads to no root that the project names";
                    notes.found(seen(look, part, text));
                }
            }
        }
    }
}

pub(super) fn expired(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    each(ios, notes, |part, verified, notes| {
        let (begin, end) = (time(verified.profile.not_before), time(verified.profile.not_after));
        if end < look.now {
            let text = "this profile has ended";
            notes.found(seen(look, part, text).found(format!("ended {}", day(end))));
        } else if begin > look.now {
            let text = "this profile is not good yet";
            notes.found(seen(look, part, text).found(format!("begins {}", day(begin))));
        }
    });
}

pub(super) fn expires_soon(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    let wait = SignedDuration::from_hours(24 * i64::from(look.policy.due_days));
    let due = look.now.saturating_add(wait).unwrap_or(Timestamp::MAX);
    each(ios, notes, |part, verified, notes| {
        let end = time(verified.profile.not_after);
        if end >= look.now && end < due {
            let days = (end.as_second() - look.now.as_second()) / 86_400;
            let text = format!("this profile ends in {days} days");
            notes.found(Observation::new(text).found(day(end)).place(place(part)));
        }
    });
}

pub(super) fn kind_wrong(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    let Some(destination) = look.destination else { return notes.skip("where it goes is not known") };
    each(ios, notes, |part, verified, notes| {
        if verified.destination != destination {
            let text = match (verified.profile.devices.as_ref(), destination) {
                (Some(devices), _) => {
                    let many = if devices.len() == 1 { "device" } else { "devices" };
                    format!("this profile lets a build run on {} registered {many}", devices.len())
                }
                (None, _) => format!("this profile is for {}", verified.destination.phrase()),
            };
            let title = &verified.profile.title;
            let found = format!("{} {title:?}", verified.destination);
            notes.found(seen(look, part, text).expected(destination).found(found));
        }
    });
}

pub(super) fn app_mismatch(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    each(ios, notes, |part, verified, notes| {
        // what does not say what it is is told as malformed
        if !part.bundle.id().is_empty() && !is_for(&verified.app_id, part.bundle.id()) {
            let text = "this profile is for another app";
            notes.found(seen(look, part, text).expected(part.bundle.id()).found(&verified.app_id));
        }
    });
}

pub(super) fn team_mismatch(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    each(ios, notes, |part, verified, notes| {
        let teams = &verified.profile.teams;
        let named = part.signed().filter_map(|(signed, _)| signed.team.as_deref());
        let wanted =
            ios.against.team.into_iter().chain(named).find(|team| !teams.iter().any(|known| known == team));
        if let Some(wanted) = wanted {
            let text = "this profile was issued to another team";
            notes.found(seen(look, part, text).expected(wanted).found(teams.join(", ")));
        }
    });
}

pub(super) fn lacks_identity(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    each(ios, notes, |part, verified, notes| {
        let lacks = part
            .signed()
            .find(|(_, signer)| !verified.profile.certificates.contains(&signer.certificate.der));
        if let Some((_, signer)) = lacks {
            let text = "this profile does not name the certificate that signed";
            let all: Vec<String> =
                verified.profile.certificates.iter().map(|der| short(&sha256_hex(der))).collect();
            let own = short(&sha256_hex(&signer.certificate.der));
            notes.found(seen(look, part, text).expected(own).found(all.join(", ")));
        }
    });
}

pub(super) fn lacks_device(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    let Some(device) = ios.against.device else { return notes.skip("no device was named") };
    each(ios, notes, |part, verified, notes| {
        if verified.profile.all_devices {
            return;
        }
        let devices = verified.profile.devices.as_deref();
        if devices.is_some_and(|all| all.iter().any(|known| known.eq_ignore_ascii_case(device))) {
            return;
        }
        let text = match devices {
            Some(_) => "it does not run on that device: this profile does not name it",
            None => "it runs on no device as it is: the store signs it again for those that get it",
        };
        let found = devices.map_or("no devices".to_owned(), |all| format!("{} others", all.len()));
        let seen =
            Observation::new(text).place(place(part)).expected(device).found(found).level(Level::Error);
        let obtain = look.app.zip(look.destination.filter(|to| to.has_devices()));
        notes.found(match obtain {
            Some(((app, _), destination)) => seen.mend(Mend::Prepare { app: app.to_owned(), destination }),
            None => seen,
        });
    });
}
