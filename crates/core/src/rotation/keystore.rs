//! The keys of a keystore: an upload key gets a successor that the store has to take; a signing key hands over to its successor,
//! and stays for the devices that know no other.

use jiff::Timestamp;

use super::{Phase, PlanError, Planner, day};
use crate::model::{Destination, Does, Item, KeystoreEntry, KeystoreFacts, Role};

pub(super) fn add<'a>(
    planner: &mut Planner<'a>,
    item: &'a Item,
    facts: &'a KeystoreFacts,
) -> Result<(), PlanError> {
    // one key that is two of the nine is replaced as both
    let several = facts.entries.iter().map(|entry| entry.roles().len()).sum::<usize>() > 1;
    if facts.entries.is_empty() || several {
        let because =
            "it holds several keys, or one for several purposes; each needs a keystore of its own first";
        return Err(PlanError::NotWhole { name: item.name.clone(), because: because.into() });
    }
    for entry in &facts.entries {
        let new = Successor::begin(planner, item, entry);
        match new.role {
            Role::Upload => upload(planner, &new),
            Role::Signing => signing(planner, &new),
        }
        planner.tell(item);
        let why = match new.role {
            Role::Upload => "the store knows the new one by then",
            Role::Signing => "devices that know no proof go on with it: it is kept, and signs for them",
        };
        let does = Does::Retire { item: item.name.clone(), successor: new.keystore };
        planner.step(Phase::Retire, does, why);
    }
    Ok(())
}

/// A key that is to take another's place.
struct Successor {
    keystore: String,
    instead_of: String,
    alias: String,
    role: Role,
    apps: Vec<String>,
}

impl Successor {
    /// Plans the new key.
    fn begin(planner: &mut Planner<'_>, item: &Item, entry: &KeystoreEntry) -> Self {
        let role = entry.roles().first().copied().unwrap_or(entry.role);
        let apps: Vec<String> = entry.apps_as(role).into_iter().map(str::to_owned).collect();
        let word = if role == Role::Upload { "upload" } else { "signing" };
        let year = planner.next_year() - 1;
        let base = match apps.as_slice() {
            [one] => format!("{one}-{word}-{year}"),
            _ => format!("{word}-{year}"),
        };
        let keystore = planner.name(&base);
        let until = end_of(planner, entry);
        let now = planner.view.now;
        if let Some(until) = until.filter(|until| *until > now) {
            let means = match role {
                Role::Upload => "it goes on uploading until the store knows the new one",
                Role::Signing => "installed apps go on running, and take updates signed with either",
            };
            planner.meanwhile(&item.name, until, means);
        }
        let why = match until {
            Some(until) if until <= now => format!("{} ended on {}", item.name, day(until)),
            _ => format!("{} is replaced", item.name),
        };
        let (instead_of, alias) = (item.name.clone(), entry.alias.clone());
        let does = Does::MakeKey {
            keystore: keystore.clone(),
            instead_of: instead_of.clone(),
            alias: alias.clone(),
            role,
        };
        planner.step(Phase::Keys, does, why);
        Successor { keystore, instead_of, alias, role, apps }
    }

    fn takes_over(&self) -> Does {
        Does::TakeOver {
            keystore: self.keystore.clone(),
            instead_of: self.instead_of.clone(),
            alias: self.alias.clone(),
        }
    }
}

fn end_of(planner: &Planner<'_>, entry: &KeystoreEntry) -> Option<Timestamp> {
    planner.view.inventory.certificate(&entry.certificate).map(|facts| facts.not_after)
}

/// A small build of each app, signed and checked.
fn prove(planner: &mut Planner<'_>, new: &Successor, destination: Destination) {
    for app in &new.apps {
        let does = Does::ProveBuild { app: app.clone(), destination, with: new.keystore.clone() };
        planner.step(Phase::Proofs, does, "nothing goes before its successor has signed and passed a check");
    }
}

/// An upload key: the old one uploads until the store has said yes to the new one.
fn upload(planner: &mut Planner<'_>, new: &Successor) {
    let does =
        Does::FileCertificate { keystore: new.keystore.clone(), file: format!("{}.pem", new.keystore) };
    let why =
        "the store takes nothing from a key that it does not know; until it says yes the old one uploads";
    planner.step(Phase::Filed, does, why);
    planner.step(Phase::TakeOver, new.takes_over(), "from here on bundles are signed with the new one");
    prove(planner, new, Destination::Store);
}

/// A signing key: it signs the proof that devices go by.
fn signing(planner: &mut Planner<'_>, new: &Successor) {
    let does = Does::HandOver {
        keystore: new.keystore.clone(),
        instead_of: new.instead_of.clone(),
        alias: new.alias.clone(),
        from_sdk: planner.hand_over.from_sdk,
        old_key_may: planner.hand_over.old_key_may.clone(),
    };
    let why = "a device takes an update under another key only with a proof that the old one signed";
    planner.step(Phase::Certificates, does, why);
    planner.step(
        Phase::TakeOver,
        new.takes_over(),
        "from here on builds are signed with both, and carry the proof",
    );
    prove(planner, new, Destination::Direct);
    for app in &new.apps {
        let does = Does::RegisterFingerprint { app: app.clone(), keystore: new.keystore.clone() };
        let why = "services know an app by its certificate: web domains, maps, signing in";
        planner.step(Phase::People, does, why);
    }
}
