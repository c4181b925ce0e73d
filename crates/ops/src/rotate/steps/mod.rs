//! What each step of a rotation does. A step that was cut off is done again: what is there already is seen, and not made twice.

mod apikey;
mod cabinet;
mod identity;
mod keystore;
mod people;
mod profile;
mod proof;

pub(super) use keystore::{entry_of, move_uses, rename_in_project};

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, Change};
use ninekeys_core::model::{ApiUse, Does, Facts, Inventory, Item, ItemId, OldKeyMay, RotationFacts, State};

use crate::ctx::Ctx;
use crate::portal;
use crate::prepare::Waits;
use crate::project::ProjectFile;
use crate::rotate::RotateError;

/// A rotation at work.
pub(super) struct Work<'w, 'c> {
    pub(super) ctx: &'c Ctx<'c>,
    pub(super) file: &'w ProjectFile,
    pub(super) cabinet: &'w mut Cabinet<'c>,
    pub(super) facts: &'w RotationFacts,
}

/// What came of a step.
pub(super) enum Outcome {
    /// It is done, and this was made, under the names of the draft.
    Done(Vec<(String, ItemId)>),
    /// A person has to do something. Where a command takes it in, it is seen that it was done; else somebody has to say so.
    Waits(Waits),
}

impl Outcome {
    fn waits(what: String, file: Option<String>, next: Vec<String>) -> Self {
        Outcome::Waits(Waits { what, file, next })
    }

    /// A step that is done when somebody says so.
    fn at_a_word(what: String, file: Option<String>) -> Self {
        Outcome::waits(what, file, Vec::new())
    }
}

/// Carries a step out.
pub(super) fn carry(work: &mut Work<'_, '_>, step: &Does) -> Result<Outcome, RotateError> {
    match step {
        Does::MakeIdentity { identity, purpose, apps, .. } => {
            identity::make_identity(work, identity, *purpose, apps)
        }
        Does::GetCertificate { identity, app, makes_room } => {
            identity::get_certificate(work, identity, app, makes_room.as_deref())
        }
        Does::GetProfile { profile, app, bundle_id, destination, identity, .. } => {
            profile::get_profile(work, profile, (app, bundle_id), *destination, identity)
        }
        Does::MakeKey { keystore, role, .. } => keystore::make_key(work, keystore, *role),
        Does::HandOver { keystore, instead_of, alias, from_sdk, old_key_may } => {
            let flags = OldKeyMay::flags(old_key_may);
            keystore::hand_over(work, keystore, (instead_of, alias), *from_sdk, flags)
        }
        Does::MakeApiKey { api_key, instead_of } => apikey::make_api_key(work, api_key, instead_of),
        Does::ProveApiKey { api_key } => apikey::prove_api_key(work, api_key),
        Does::WithdrawApiKey { api_key } => apikey::withdraw_api_key(work, api_key),
        Does::Reseal => cabinet::reseal(work),
        Does::BackUp => cabinet::back_up(work, step),
        Does::RegisterFingerprint { app, keystore } => keystore::register_fingerprint(work, app, keystore),
        Does::FileCertificate { keystore, file } => keystore::file_certificate(work, keystore, file),
        Does::TakeOver { keystore, instead_of, alias } => {
            keystore::take_over(work, keystore, instead_of, alias)
        }
        Does::ProveBuild { app, destination, with } => proof::prove_build(work, app, *destination, with),
        Does::ProveKey { item } => identity::prove_key(work, item),
        Does::Tell { receiver, app, destination } => people::tell(work, receiver, app, *destination),
        Does::ChangeSettings { names, .. } => {
            let what = profile::settings(work, names)?;
            Ok(Outcome::at_a_word(what, None))
        }
        Does::LookAfter { .. } | Does::ChangeServer { .. } => {
            Ok(Outcome::at_a_word(ninekeys_core::rotation::said(step), None))
        }
        Does::Retire { item, successor } => retire(work, item, successor),
        Does::Revoke { item, successor } => identity::revoke(work, item, successor),
    }
}

impl Work<'_, '_> {
    /// The item that the rotation calls by that name.
    pub(super) fn item(&self, inventory: &Inventory, name: &str) -> Result<Item, RotateError> {
        let known = self.facts.items.get(name).and_then(|id| inventory.get(id));
        let named = || inventory.iter().find(|item| item.name == name);
        known.or_else(named).cloned().ok_or_else(|| RotateError::Gone(name.into()))
    }

    /// The certificate of an identity, and its item.
    fn certificate(
        &self,
        inventory: &Inventory,
        name: &str,
    ) -> Result<Option<(ItemId, String)>, RotateError> {
        let item = self.item(inventory, name)?;
        let Facts::Identity(facts) = &item.facts else { return Err(RotateError::Gone(name.into())) };
        let Some(id) = facts.certificate else { return Ok(None) };
        let certificate = inventory.certificate(&id);
        Ok(certificate.map(|certificate| (id, certificate.serial.clone())))
    }

    fn can_ask(&self, app: &str) -> Result<bool, RotateError> {
        let inventory = self.cabinet.inventory()?;
        Ok(portal::can_ask(&self.file.project, &inventory, ApiUse::Signing, Some(app)))
    }

    /// The app in whose name the portal is asked for an identity.
    fn asks_for(&self, identity: &str) -> Option<String> {
        self.facts.steps.iter().find_map(|step| match &step.step {
            Does::GetCertificate { identity: of, app, .. } if of == identity => Some(app.clone()),
            _ => None,
        })
    }
}

pub(super) fn retire(work: &mut Work<'_, '_>, item: &str, successor: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let (old, new) = (work.item(&inventory, item)?, work.item(&inventory, successor)?);
    let what = format!("rotate: retire {}", old.name);
    work.cabinet.change(&what, &work.ctx.env, |change| succeed(change, &old.id, &new.id))?;
    Ok(Outcome::Done(Vec::new()))
}

/// Retires what was replaced, and says of its successor what it replaced.
pub(super) fn succeed(change: &mut Change<'_>, old: &ItemId, new: &ItemId) -> Result<(), RotateError> {
    let inventory = change.inventory();
    let get = |id: &ItemId| inventory.get(id).cloned().ok_or_else(|| RotateError::Gone(id.to_string()));
    let (mut old, mut new) = (get(old)?, get(new)?);
    if old.state == State::Active {
        old.state = State::Retired;
        change.revise(&old, None)?;
    }
    if new.replaces.is_none() {
        new.replaces = Some(old.id);
        new.generation = old.generation + 1;
        change.revise(&new, None)?;
    }
    Ok(())
}

/// What a step that somebody did elsewhere means in the cabinet: a certificate that was revoked by hand is noted, and its identity
/// retired.
pub(super) fn note_word(
    change: &mut Change<'_>,
    facts: &RotationFacts,
    step: &Does,
    now: Timestamp,
) -> Result<(), RotateError> {
    let Does::Revoke { item, successor } = step else { return Ok(()) };
    let get = |name: &String| facts.items.get(name).copied().ok_or_else(|| RotateError::Gone(name.clone()));
    let (old, new) = (get(item)?, get(successor)?);
    crate::identity::note_revoked(change, &old, now)?;
    succeed(change, &old, &new)
}
