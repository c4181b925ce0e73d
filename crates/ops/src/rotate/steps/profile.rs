//! Steps of provisioning profiles: one is made again, and build settings name it.

use ninekeys_core::model::{Destination, Does, Facts, Item, State};

use super::identity::begin;
use super::{Outcome, Work};
use crate::prepare::by_portal::{Which, get_profiles, register};
use crate::rotate::RotateError;

pub(super) fn get_profile(
    work: &mut Work<'_, '_>,
    name: &str,
    (app, bundle_id): (&str, &str),
    destination: Destination,
    identity: &str,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let gone = || RotateError::Gone(format!("the certificate of {identity}"));
    let (certificate, serial) = work.certificate(&inventory, identity)?.ok_or_else(gone)?;
    let drafted = work.facts.drafted;
    let is_it = |item: &&Item| {
        item.state == State::Active
            && item.created >= drafted
            && matches!(&item.facts, Facts::Profile(profile)
                if profile.destination == destination
                    && ninekeys_core::ios::profile::is_for(&profile.app_id, bundle_id)
                    && profile.certificates.contains(&certificate))
    };
    if let Some(made) = inventory.iter().filter(is_it).max_by_key(|item| item.seq) {
        return Ok(Outcome::Done(vec![(name.into(), made.id)]));
    }
    if !work.can_ask(app)? {
        let devices = if destination.has_devices() { ", with all devices" } else { "" };
        let what = format!(
            "have a profile made at the portal for {bundle_id}, for {}, with the certificate of serial number {serial}{devices}",
            destination.phrase()
        );
        let next = ["profile", "import", "FILE", "--name", name].map(str::to_owned).into();
        return Ok(Outcome::waits(what, None, next));
    }
    let job = begin(work.ctx, work.file, &inventory, app, destination)?;
    let mut steps = Vec::new();
    register(&job, work.cabinet, &mut steps)?;
    let which = Which::Beside { bundle_id, name };
    let names = get_profiles(&job, work.cabinet, &which, Some(&serial), &mut steps)?;
    let inventory = work.cabinet.inventory()?;
    let made = names.first().and_then(|made| inventory.iter().find(|item| item.name == *made));
    let made = made.ok_or_else(|| RotateError::Gone(name.into()))?;
    Ok(Outcome::Done(vec![(name.into(), made.id)]))
}

/// What build settings name, and what they have to name now.
pub(super) fn settings(work: &Work<'_, '_>, names: &[String]) -> Result<String, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let uuid = |name: &str| match work.item(&inventory, name).map(|item| item.facts) {
        Ok(Facts::Profile(profile)) => Some(profile.uuid),
        _ => None,
    };
    let mut lines = Vec::new();
    for step in &work.facts.steps {
        if let Does::GetProfile { profile, instead_of, .. } = &step.step
            && names.contains(instead_of)
            && let (Some(old), Some(new)) = (uuid(instead_of), uuid(profile))
        {
            lines.push(format!("{old} ({instead_of}) is {new} ({profile}) now"));
        }
    }
    let told = if lines.is_empty() { names.join(", ") } else { lines.join("; ") };
    Ok(format!("where build settings name a profile by its identifier: {told}"))
}
