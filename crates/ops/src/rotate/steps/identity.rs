//! Steps of identities: a new one is asked for and proved, an old one revoked.

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::digest::from_hex;
use ninekeys_core::keys::{KeyProof, prove};
use ninekeys_core::model::{Destination, Does, Facts, IdentityPurpose, Inventory, Item};
use ninekeys_portal::client::PortalError;

use super::{Outcome, Work, retire};
use crate::ctx::Ctx;
use crate::identity;
use crate::prepare::by_hand::write_request;
use crate::prepare::by_portal::{get_chain, get_identity, register, with};
use crate::prepare::{Asked, Job, PrepareError, request_for};
use crate::project::ProjectFile;
use crate::rotate::RotateError;

pub(super) fn make_identity(
    work: &mut Work<'_, '_>,
    name: &str,
    purpose: IdentityPurpose,
    apps: &[String],
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    if let Ok(known) = work.item(&inventory, name) {
        // a call that was cut off made it
        let own =
            matches!(&known.facts, Facts::Identity(facts) if facts.purpose == purpose && facts.apps == apps);
        let is_ours = own && known.created >= work.facts.drafted;
        return match is_ours {
            true => Ok(Outcome::Done(vec![(name.into(), known.id)])),
            false => Err(CabinetError::NameTaken(name.into()).into()),
        };
    }
    let app = work.asks_for(name).ok_or_else(|| RotateError::NoApp(name.into()))?;
    let asked = Asked { name: name.into(), purpose, apps: apps.to_vec(), request: None };
    let (ctx, file) = (work.ctx, work.file);
    let job = begin(ctx, file, &inventory, &app, Destination::Store)?;
    request_for(&job, work.cabinet, &asked)?;
    let made = work.item(&*work.cabinet.inventory()?, name)?;
    Ok(Outcome::Done(vec![(name.into(), made.id)]))
}

/// What asks the portal for an app.
pub(super) fn begin<'j>(
    ctx: &'j Ctx<'j>,
    file: &'j ProjectFile,
    inventory: &Inventory,
    app: &'j str,
    destination: Destination,
) -> Result<Job<'j>, RotateError> {
    let gone = || RotateError::NoApp(app.into());
    let (name, known) = file.project.apps.get_key_value(app).ok_or_else(gone)?;
    let ios = known.ios.as_ref().ok_or_else(gone)?;
    Ok(Job::begin(ctx, file, (name.as_str(), known, ios), destination, inventory)?)
}

/// The request of an identity that waits for its certificate.
fn asked(item: &Item) -> Option<Asked> {
    let Facts::Identity(facts) = &item.facts else { return None };
    let request = facts.request.as_deref().and_then(from_hex);
    Some(Asked { name: item.name.clone(), purpose: facts.purpose, apps: facts.apps.clone(), request })
}

pub(super) fn get_certificate(
    work: &mut Work<'_, '_>,
    name: &str,
    app: &str,
    makes_room: Option<&str>,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    if work.certificate(&inventory, name)?.is_some() {
        return Ok(Outcome::Done(Vec::new()));
    }
    let item = work.item(&inventory, name)?;
    let asked = asked(&item).ok_or_else(|| RotateError::Gone(name.into()))?;
    let by_portal = work.can_ask(app)?;
    let job = begin(work.ctx, work.file, &inventory, app, Destination::Store)?;
    if !by_portal {
        let mut waits = write_request(&job, work.cabinet, &asked)?;
        if let Some(idle) = makes_room
            && let Some((_, serial)) = work.certificate(&inventory, idle)?
        {
            waits.what.push_str(&format!(
                "; where the portal has no room for it, have the certificate of serial number {serial} revoked first ({idle}, \
                 which no profile names)"
            ));
        }
        return Ok(Outcome::Waits(waits));
    }
    let again =
        Asked { name: asked.name.clone(), apps: asked.apps.clone(), request: asked.request.clone(), ..asked };
    let mut steps = Vec::new();
    if let IdentityPurpose::Push(_) = asked.purpose {
        // a push certificate is for an app id that has push switched on
        register(&job, work.cabinet, &mut steps)?;
    }
    match get_identity(&job, work.cabinet, Some(asked), &mut steps) {
        Err(PrepareError::Portal(PortalError::Refused(problem)))
            if problem.kind == "limit-reached" && makes_room.is_some() =>
        {
            let idle = work.item(&inventory, makes_room.unwrap_or_default())?;
            revoke_at(&job, work.cabinet, &idle)?;
            get_identity(&job, work.cabinet, Some(again), &mut steps)?;
        }
        other => other?,
    }
    get_chain(&job, work.cabinet, &mut steps)?;
    Ok(Outcome::Done(Vec::new()))
}

/// Revokes an identity's certificate at the portal, and notes it.
fn revoke_at(job: &Job<'_>, cabinet: &mut Cabinet<'_>, item: &Item) -> Result<(), RotateError> {
    let inventory = cabinet.inventory()?;
    let gone = || RotateError::Gone(item.name.clone());
    let Facts::Identity(facts) = &item.facts else { return Err(gone()) };
    let own =
        facts.certificate.and_then(|id| identity::certificate_facts(&inventory, &id)).ok_or_else(gone)?;
    let revoked = with(job, cabinet, |portal| Ok(portal.revoke(&own.serial)?.revoked))?;
    let at = revoked.unwrap_or(job.ctx.env.now);
    let what = format!("rotate: revoke {}", item.name);
    cabinet.change(&what, &job.ctx.env, |change| identity::note_revoked(change, &item.id, at))?;
    Ok(())
}

pub(super) fn prove_key(work: &mut Work<'_, '_>, name: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let item = work.item(&inventory, name)?;
    let gone = || RotateError::Gone(format!("the key of {name}"));
    let Facts::Identity(facts) = &item.facts else { return Err(gone()) };
    let key = facts.key.and_then(|id| inventory.get(&id)).ok_or_else(gone)?;
    let own =
        facts.certificate.and_then(|id| identity::certificate_facts(&inventory, &id)).ok_or_else(gone)?;
    let certificate = identity::parsed(own).ok_or_else(gone)?;
    let secret = work.cabinet.secret(key)?;
    match secret.lend(|der| prove(der, &certificate.public_key)) {
        KeyProof::Holds => Ok(Outcome::Done(Vec::new())),
        KeyProof::Damaged | KeyProof::Untold => Err(RotateError::NotProved(name.into())),
    }
}

pub(super) fn revoke(work: &mut Work<'_, '_>, name: &str, successor: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let item = work.item(&inventory, name)?;
    let Facts::Identity(facts) = &item.facts else { return Err(RotateError::Gone(name.into())) };
    let profile_apps = work.facts.steps.iter().find_map(|step| match &step.step {
        Does::GetCertificate { app, .. } | Does::GetProfile { app, .. } => Some(app.clone()),
        _ => None,
    });
    let any = work.file.project.apps.iter().find(|(_, app)| app.ios.is_some());
    let app = facts.apps.first().cloned().or(profile_apps).or(any.map(|(name, _)| name.to_string()));
    let app = app.ok_or_else(|| RotateError::NoApp(name.into()))?;
    if facts.revoked.is_none() {
        if !work.can_ask(&app)? {
            let serial = work.certificate(&inventory, name)?.map(|(_, serial)| serial).unwrap_or_default();
            let what = format!("have the certificate of serial number {serial} revoked at the portal");
            return Ok(Outcome::at_a_word(what, None));
        }
        let job = begin(work.ctx, work.file, &inventory, &app, Destination::Store)?;
        revoke_at(&job, work.cabinet, &item)?;
    }
    retire(work, name, successor)
}
