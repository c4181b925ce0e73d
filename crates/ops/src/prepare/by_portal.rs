//! Through the portal: identity, app ids, devices and profiles, one step after the other.

use std::path::PathBuf;

use ninekeys_cabinet::Cabinet;
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::ios::setup::{Part, Setup};
use ninekeys_core::model::{ApiUse, Capability, IdentityPurpose};
use ninekeys_portal::client::Portal;
use ninekeys_portal::wire::{AppId, Capabilities, Device, Enrolment, NewProfile};

use super::{Asked, Does, Job, PrepareError, Step, is_wanted, lacks_link, request_for};
use crate::answers;
use crate::device;
use crate::identity;
use crate::identity::accept::Fit;
use crate::portal;
use crate::profile::import::{Fit as ProfileFit, Measure};

/// Does everything through the portal, one step after the other.
pub(super) fn by_the_portal(
    job: &Job<'_>,
    cabinet: &mut Cabinet<'_>,
    steps: &mut Vec<Step>,
) -> Result<(), PrepareError> {
    let asked = Asked::to_sign(job, &*cabinet.inventory()?);
    get_identity(job, cabinet, asked, steps)?;
    get_chain(job, cabinet, steps)?;
    register(job, cabinet, steps)?;
    // a push certificate is for an app id that has push switched on
    let asked = Asked::to_send(job, &*cabinet.inventory()?);
    get_identity(job, cabinet, asked, steps)?;
    get_profiles(job, cabinet, &Which::Missing { anew: None }, None, steps).map(|_| ())
}

pub(crate) fn with<R>(
    job: &Job<'_>,
    cabinet: &Cabinet<'_>,
    work: impl FnOnce(&dyn Portal) -> Result<R, PrepareError>,
) -> Result<R, PrepareError> {
    portal::with_portal(job.ctx, cabinet, job.file, (ApiUse::Signing, Some(job.name)), work)
}

/// An identity that has to be had: its key is made where it is not, and its certificate enrolled.
pub(crate) fn get_identity(
    job: &Job<'_>,
    cabinet: &mut Cabinet<'_>,
    asked: Option<Asked>,
    steps: &mut Vec<Step>,
) -> Result<(), PrepareError> {
    let Some(asked) = asked else { return Ok(()) };
    let name = asked.name.clone();
    let der = request_for(job, cabinet, &asked)?;
    if asked.request.is_none() {
        steps.push(Step::new(Does::MakeKey, name.clone()));
    }
    let wanted = match asked.purpose {
        IdentityPurpose::Development => Enrolment::Development,
        IdentityPurpose::Distribution => Enrolment::Distribution,
        IdentityPurpose::Push(environment) => {
            Enrolment::Push { environment, bundle_id: job.ios.bundle_id.clone() }
        }
    };
    // the same request is the same call: however often it is made, one certificate is issued
    let call = format!("certificate-{}", sha256_hex(&der));
    let (issued, above) =
        with(job, cabinet, |portal| Ok((portal.enrol(&wanted, &der, &call)?, portal.authorities()?)))?;
    job.saw(answers::time(issued.not_before));
    let inventory = cabinet.inventory()?;
    let mut pool = job.pool(&inventory);
    pool.extend(above.iter().cloned());
    let fit = Fit::read(issued, &asked.apps, Some(job.project()), &pool)?;
    let known = identity::find(&inventory, &name).ok().and_then(|(_, facts)| facts.key);
    if known.is_none() || fit.key(&inventory) != known {
        return Err(PrepareError::OtherKey);
    }
    drop(inventory);
    cabinet.change(&format!("prepare: certificate of {name}"), &job.ctx.env, |change| {
        identity::put_authorities(change, &above)?;
        fit.put(change, None, None)
    })?;
    steps.push(Step::new(Does::GetCertificate, name));
    Ok(())
}

/// The certificates above an identity's that came without them.
pub(crate) fn get_chain(
    job: &Job<'_>,
    cabinet: &mut Cabinet<'_>,
    steps: &mut Vec<Step>,
) -> Result<(), PrepareError> {
    let Some((name, _)) = job.look(&*cabinet.inventory()?, lacks_link) else { return Ok(()) };
    let above = with(job, cabinet, |portal| Ok(portal.authorities()?))?;
    cabinet.change(&format!("prepare: chain of {name}"), &job.ctx.env, |change| {
        identity::put_authorities(change, &above)
    })?;
    // another portal's say nothing of this one
    if job.look(&*cabinet.inventory()?, lacks_link).is_none() {
        steps.push(Step::new(Does::GetChain, name));
    }
    Ok(())
}

/// App ids, capabilities and devices, as far as the portal does not have them.
pub(crate) fn register(
    job: &Job<'_>,
    cabinet: &Cabinet<'_>,
    steps: &mut Vec<Step>,
) -> Result<(), PrepareError> {
    let inventory = cabinet.inventory()?;
    let inside =
        job.ios.extensions.iter().map(|(name, id)| (format!("{} {name}", job.app.title), id, &[][..]));
    let own = (job.app.title.clone(), &job.ios.bundle_id, job.ios.capabilities.as_slice());
    let wanted: Vec<(String, &String, &[Capability])> = std::iter::once(own).chain(inside).collect();
    with(job, cabinet, |portal| {
        let known = portal.app_ids()?;
        for (title, bundle_id, capabilities) in wanted {
            let found = known.iter().find(|one| one.bundle_id == *bundle_id);
            let Some(found) = found else {
                let capabilities = capabilities.to_vec();
                portal.new_app_id(&AppId { bundle_id: bundle_id.clone(), title, capabilities })?;
                steps.push(Step::new(Does::RegisterAppId, bundle_id));
                continue;
            };
            if capabilities.iter().any(|one| !found.capabilities.contains(one)) {
                // what others switched on stays on
                let mut all: Vec<Capability> =
                    found.capabilities.iter().chain(capabilities).copied().collect();
                all.sort_unstable();
                all.dedup();
                let words: Vec<&str> = all.iter().map(|one| one.word()).collect();
                portal.set_capabilities(bundle_id, &Capabilities { capabilities: all.clone() })?;
                steps.push(Step::new(Does::SwitchOn, bundle_id).with(words.join(", ")));
            }
        }
        if job.destination.has_devices() {
            let known = portal.devices()?;
            for (_, facts) in device::all(&inventory) {
                if !known.iter().any(|one| one.identifier.eq_ignore_ascii_case(&facts.identifier)) {
                    let new = Device { identifier: facts.identifier.clone(), title: facts.title.clone() };
                    portal.new_device(&new)?;
                    steps.push(Step::new(Does::RegisterDevice, &facts.title).with(&facts.identifier));
                }
            }
        }
        Ok(())
    })
}

/// Which profiles are had.
pub(crate) enum Which<'a> {
    /// One for every bundle id that lacks one, and for the one that is to have it made anew.
    Missing { anew: Option<&'a str> },
    /// One for this bundle id, under this name, beside the one that is there: that stays in use.
    Beside { bundle_id: &'a str, name: &'a str },
}

impl Which<'_> {
    fn wants(&self, setup: &Setup<'_>, part: &Part<'_>) -> bool {
        match self {
            Which::Missing { anew } => is_wanted(setup, part) || *anew == Some(part.bundle_id),
            Which::Beside { bundle_id, .. } => part.bundle_id == *bundle_id,
        }
    }
}

/// Has profiles made; tells their names. Each names the certificate with the serial number, or that of the identity that is
/// taken.
pub(crate) fn get_profiles(
    job: &Job<'_>,
    cabinet: &mut Cabinet<'_>,
    which: &Which<'_>,
    serial: Option<&str>,
    steps: &mut Vec<Step>,
) -> Result<Vec<String>, PrepareError> {
    let inventory = cabinet.inventory()?;
    let wanted: Vec<(NewProfile, String)> = job.look(&inventory, |setup| {
        let taken = || setup.taken()?.certificate.map(|own| own.serial.clone());
        let Some(serial) = serial.map(ToOwned::to_owned).or_else(taken) else {
            return Vec::new();
        };
        let own = if job.destination.has_devices() { device::all(&inventory) } else { Vec::new() };
        let devices: Vec<String> = own.into_iter().map(|(_, facts)| facts.identifier.clone()).collect();
        let parts = setup.parts.iter().filter(|part| which.wants(setup, part));
        parts
            .map(|part| {
                let before =
                    part.profiles.first().map(|choice| choice.facts.uuid.as_str()).unwrap_or_default();
                let new = NewProfile {
                    title: job.profile_title(part),
                    destination: job.destination,
                    bundle_id: part.bundle_id.into(),
                    certificates: vec![serial.clone()],
                    devices: devices.clone(),
                };
                // asked for again after a cut it is the same call; renewed later it is another one
                let said = serde_json::to_vec(&new).unwrap_or_default();
                let words = job.ios.capabilities.iter().map(|one| one.word()).collect::<Vec<_>>().join(" ");
                let call = sha256_hex(&[said.as_slice(), before.as_bytes(), words.as_bytes()].concat());
                (new, format!("profile-{call}"))
            })
            .collect()
    });
    let mut names = Vec::new();
    for (new, call) in wanted {
        let made = with(job, cabinet, |portal| Ok(portal.new_profile(&new, &call)?))?;
        let inventory = cabinet.inventory()?;
        let pool = job.pool(&inventory);
        let measure =
            Measure { project: Some(job.project()), roots: &job.roots, pool: &pool, now: job.now.get() };
        let named = PathBuf::from(format!("the profile \"{}\" from the portal", new.title));
        let fit = ProfileFit::read(&named, made.file, &measure)?;
        job.saw(answers::time(fit.verified.profile.not_before));
        let what = format!("prepare: profile {}", new.title);
        let (name, _) = cabinet.change(&what, &job.ctx.env, |change| match which {
            Which::Missing { .. } => fit.put(change, None, &job.roots),
            Which::Beside { name, .. } => fit.put_beside(change, name, &job.roots),
        })?;
        names.push(name);
        steps.push(Step::new(Does::GetProfile, new.title).with(new.bundle_id));
    }
    Ok(names)
}
