//! Rules about how the material is kept.

use jiff::SignedDuration;

use super::{CabinetLook, CabinetStanding, Notes, Rule, Subject};
use crate::findings::{Level, Mend, Observation};
use crate::ios::device::{NEAR_LIMIT, YEARLY_LIMIT, registered_within_a_year};
use crate::model::{ApiKeyFacts, ApiRole, ApiUse, Facts, Inventory, Item, Role, State};

/// A backup is stale when the cabinet has changed since and it is older than this.
const STALE_DAYS: i64 = 30;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "cabinet-older",
        level: Level::Error,
        about: "the cabinet's file is older than one that was seen",
        meaning: "An old file was put back, or this is a copy: what was done since is not in it.",
        remedy: "bring the newer file back, or restore this one for good",
        subjects: &[Subject::Cabinet(cabinet_older)],
    },
    Rule {
        name: "cabinet-parted",
        level: Level::Error,
        about: "two copies of the cabinet were both changed",
        meaning: "What was done in the other one is not in this one, and the other way round.",
        remedy: "find the other file, and choose one of the two",
        subjects: &[Subject::Cabinet(cabinet_parted)],
    },
    Rule {
        name: "backup-missing",
        level: Level::Warning,
        about: "a key that cannot be replaced is in no backup",
        meaning: "When this one file is lost, so is the key, and the app can never be updated again.",
        remedy: "make a backup on another disk",
        subjects: &[Subject::Cabinet(backup_missing)],
    },
    Rule {
        name: "backup-stale",
        level: Level::Note,
        about: "the last backup is more than 30 days old and does not have everything",
        meaning: "What was added since would be lost with the cabinet's file; what the copy elsewhere lacks, with the place.",
        remedy: "make a new backup, and take one elsewhere",
        subjects: &[Subject::Cabinet(backup_stale)],
    },
    Rule {
        name: "password-weak",
        level: Level::Warning,
        about: "a keystore's password is easy to guess",
        meaning: "The password guards the key wherever the keystore is exported or lent to.",
        remedy: "let the tool generate a password: leave the password options out",
        subjects: &[Subject::Cabinet(password_weak)],
    },
    Rule {
        name: "secret-in-repository",
        level: Level::Error,
        about: "what unlocks the cabinet, or another secret, is in a repository",
        meaning: "Everybody with a copy of the repository has it, and its history keeps it when it is taken out.",
        remedy: "make a new unlock file, remove the member of the old one, and keep the new one out of the repository",
        subjects: &[Subject::Cabinet(secret_in_repository)],
    },
    Rule {
        name: "file-permissions-open",
        level: Level::Error,
        about: "others on this machine can read what unlocks the cabinet, or another secret",
        meaning: "Whoever can read it needs no passphrase.",
        remedy: "let nobody but its owner read the file (mode 0600)",
        subjects: &[Subject::Cabinet(file_permissions_open)],
    },
    Rule {
        name: "limit-near",
        level: Level::Warning,
        about: "as many devices are registered as a team may have within a year, or nearly",
        meaning: "One more than the portal takes, and nobody's new device can run a build until the year is over.",
        remedy: "leave out devices that nobody uses, before the next year's list is made",
        subjects: &[Subject::Cabinet(limit_near)],
    },
    Rule {
        name: "api-key-shared",
        level: Level::Warning,
        about: "one API key is used for several services",
        meaning: "When one of them leaks it, all of them stand still until the others have a new one.",
        remedy: "make a key for each service, each with the smallest role that does",
        subjects: &[Subject::Material(api_key_shared)],
    },
    Rule {
        name: "api-key-role-too-small",
        level: Level::Error,
        about: "an API key may not do what it is used for",
        meaning: "The portal refuses it, often in the middle of a release.",
        remedy: "have a key made with the role that is needed",
        subjects: &[Subject::Material(api_key_too_small)],
    },
    Rule {
        name: "api-key-role-too-large",
        level: Level::Note,
        about: "an API key may do far more than it is used for",
        meaning: "Whoever gets hold of it may do all of that.",
        remedy: "have a key made with a smaller role",
        subjects: &[Subject::Material(api_key_too_large)],
    },
];

fn secret_in_repository(look: &CabinetLook<'_>, notes: &mut Notes) {
    // the cabinet itself is encrypted: it may travel with the code
    for file in look.files.iter().filter(|file| file.unlocks && file.in_repository) {
        let text = format!("{} unlocks the cabinet, and is in the repository", file.path);
        notes.found(Observation::new(text).place(&file.path).mend(Mend::UnlockFile));
    }
}

fn file_permissions_open(look: &CabinetLook<'_>, notes: &mut Notes) {
    for file in look.files.iter().filter(|file| file.open_to_others) {
        let seen = match file.unlocks {
            true => Observation::new(format!("others can read {}, which unlocks the cabinet", file.path)),
            false => {
                let text = format!("others can read {}: names, subjects and dates, no secret", file.path);
                Observation::new(text).level(Level::Note)
            }
        };
        notes.found(seen.expected("mode 0600").place(&file.path));
    }
}

/// What is limited can stop a release: devices are, by the year.
fn limit_near(look: &CabinetLook<'_>, notes: &mut Notes) {
    let used = registered_within_a_year(look.inventory, look.now);
    if used + NEAR_LIMIT > YEARLY_LIMIT {
        let text = match YEARLY_LIMIT.checked_sub(used) {
            None | Some(0) => "the portal takes no more devices this year".to_owned(),
            Some(left) => format!("the portal takes {left} more devices this year"),
        };
        let seen = Observation::new(text).expected(format!("at most {YEARLY_LIMIT} within a year"));
        notes.found(seen.found(format!("{used} registered within a year")));
    }
}

fn cabinet_older(look: &CabinetLook<'_>, notes: &mut Notes) {
    if let CabinetStanding::Older { by, known, found } = &look.standing {
        let text = format!("{by} has seen change {known} of it, and this file ends with change {found}");
        notes.found(Observation::new(text).expected(known.to_string()).found(found.to_string()));
    }
}

fn cabinet_parted(look: &CabinetLook<'_>, notes: &mut Notes) {
    if let CabinetStanding::Parted { by, row } = &look.standing {
        notes.found(Observation::new(format!("change {row} is not the one that {by} has seen")));
    }
}

/// Store API keys in use, with what they are used for and the role that they have.
fn api_keys(inventory: &Inventory) -> impl Iterator<Item = (&Item, &ApiKeyFacts, Option<ApiRole>)> {
    inventory.iter().filter(|item| item.state == State::Active).filter_map(|item| match &item.facts {
        Facts::ApiKey(facts) if facts.asked_of.is_none() => {
            Some((item, facts.as_ref(), facts.role.parse().ok()))
        }
        _ => None,
    })
}

fn api_key_shared(inventory: &Inventory, notes: &mut Notes) {
    for (item, facts, _) in api_keys(inventory).filter(|(_, facts, _)| facts.uses.len() > 1) {
        let uses: Vec<String> = facts.uses.iter().map(ToString::to_string).collect();
        let text = format!("{} is used for several services: {}", item.name, uses.join(", "));
        notes.found(Observation::new(text).place(&item.name));
    }
}

/// The largest role that the uses of a key need.
fn needed(facts: &ApiKeyFacts) -> Option<(ApiRole, ApiUse)> {
    facts.uses.iter().map(|one| (one.needs(), *one)).max()
}

fn api_key_too_small(inventory: &Inventory, notes: &mut Notes) {
    for (item, facts, role) in api_keys(inventory) {
        if let (Some(role), Some((needed, what))) = (role, needed(facts))
            && role < needed
        {
            let text = format!("{} may not do what it is used for ({what})", item.name);
            notes.found(Observation::new(text).expected(needed).found(role).place(&item.name));
        }
    }
}

fn api_key_too_large(inventory: &Inventory, notes: &mut Notes) {
    for (item, facts, role) in api_keys(inventory) {
        // one step more is how portals give roles; two are a risk without a use
        if let (Some(role), Some((needed, _))) = (role, needed(facts))
            && role as u8 > needed as u8 + 1
        {
            let text = format!("{} may do far more than it is used for", item.name);
            notes.found(Observation::new(text).expected(needed).found(role).place(&item.name));
        }
    }
}

/// Keystores in use that hold keys, newest change first to be told.
fn keystores<'a>(look: &'a CabinetLook<'_>) -> impl Iterator<Item = &'a Item> {
    look.inventory.keystores().into_iter().map(|(item, _)| item).filter(|item| item.state == State::Active)
}

fn backup_missing(look: &CabinetLook<'_>, notes: &mut Notes) {
    for item in keystores(look) {
        if look.last_backup.is_some_and(|backup| backup.holds(item, look.inventory)) {
            continue;
        }
        let seen = if holds_signing_key(item) {
            Observation::new(format!(
                "{} has no backup; it cannot be replaced if this file is lost",
                item.name
            ))
        } else {
            let text = format!("{} has no backup; the store would have to take another key", item.name);
            Observation::new(text).level(Level::Note)
        };
        let seen = seen.expected("2 copies or more").found("1, in this cabinet");
        notes.found(seen.place(&item.name).mend(Mend::Backup));
    }
}

fn holds_signing_key(item: &Item) -> bool {
    match &item.facts {
        Facts::Keystore(facts) => facts.entries.iter().any(|entry| entry.roles().contains(&Role::Signing)),
        _ => false,
    }
}

fn backup_stale(look: &CabinetLook<'_>, notes: &mut Notes) {
    let Some(last) = look.last_backup else { return notes.skip("there is no backup") };
    let age = look.now.duration_since(last.at);
    if look.inventory.iter().any(|item| !last.has(item)) && age > SignedDuration::from_hours(24 * STALE_DAYS)
    {
        let text =
            format!("the last backup is {} days old and lacks what was added since", age.as_hours() / 24);
        notes.found(Observation::new(text).mend(Mend::Backup));
    }
    backup_elsewhere_stale(look, notes);
}

/// Where a copy is kept elsewhere, it has every key that cannot be replaced, or is new.
fn backup_elsewhere_stale(look: &CabinetLook<'_>, notes: &mut Notes) {
    let Some(off_site) = look.off_site else { return };
    let days = look.now.duration_since(off_site.at).as_hours() / 24;
    if days <= STALE_DAYS {
        return;
    }
    for item in keystores(look).filter(|item| holds_signing_key(item)) {
        if !off_site.holds(item, look.inventory) {
            let text = format!("the copy that is kept elsewhere is {days} days old and lacks {}", item.name);
            let seen = Observation::new(text).place(&item.name);
            notes.found(seen.mend(Mend::BackupElsewhere));
        }
    }
}

fn password_weak(look: &CabinetLook<'_>, notes: &mut Notes) {
    for item in keystores(look) {
        if matches!(&item.facts, Facts::Keystore(facts) if facts.weak_password) {
            let text = format!("the password of {} is easy to guess", item.name);
            notes.found(Observation::new(text).place(&item.name));
        }
    }
}
