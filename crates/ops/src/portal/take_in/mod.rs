//! `portal take-in`: what stands at the portal held against what is here, and what is new taken in.

mod app_ids;
mod judge;
mod said;

use std::collections::HashSet;
use std::path::PathBuf;

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, Change};
use ninekeys_core::ios::certificate::is_team;
use ninekeys_core::model::{ApiUse, Inventory, NameError, check_title};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::client::{Portal, PortalError};
use ninekeys_portal::wire::{self, KindSaid};
use thiserror::Error;

use super::{ConnectError, with_portal};
use crate::app::add::{AppAddError, IdError, check_bundle_id};
use crate::app::change::AppChangeError;
use crate::ctx::{Ctx, OpenError};
use crate::device::{self, IdentifierError, Limit};
use crate::identity::accept::UnfitError;
use crate::identity::{self, CertificatesError};
use crate::profile::import::{Fit as ProfileFit, Measure, ProfileImportError};
use crate::project::ProjectError;
use app_ids::{app_ids, take_apps};
use judge::{Here, Judged, Work, no_good};
pub use said::{
    Because, LimitsSaid, PortalTakeInReport, Standing, TakenAppId, TakenCertificate, TakenDevice,
    TakenProfile,
};

/// Why nothing was taken in.
#[derive(Debug, Error)]
pub enum PortalTakeInError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The portal cannot be asked.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// It did not answer.
    #[error(transparent)]
    Portal(#[from] PortalError),
    /// It answered something that cannot be read.
    #[error("what the portal says of {0} cannot be read")]
    Unreadable(&'static str),
    /// A certificate that can be nobody's here.
    #[error(transparent)]
    Unfit(#[from] UnfitError),
    /// A profile that cannot be believed.
    #[error(transparent)]
    Profile(#[from] ProfileImportError),
    /// A device's identifier.
    #[error(transparent)]
    Identifier(#[from] IdentifierError),
    /// An app id that is none.
    #[error(transparent)]
    Id(#[from] IdError),
    /// What something is called there.
    #[error("a name at the portal: {0}")]
    Title(#[from] NameError),
    /// An app that could not be written into the project file.
    #[error("the app id {bundle_id} cannot be taken into the project file: {cause}")]
    App {
        /// The app id.
        bundle_id: String,
        /// Why.
        #[source]
        cause: AppAddError,
    },
    /// An extension that could not be written into the project file.
    #[error("the app id {bundle_id} cannot be taken into the project file: {cause}")]
    Extension {
        /// The app id.
        bundle_id: String,
        /// Why.
        #[source]
        cause: AppChangeError,
    },
    /// The project's roots.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The project file has the apps now, and the cabinet did not take the rest.
    #[error("{cause}")]
    HalfWay {
        /// The apps that it got.
        apps: Vec<String>,
        /// Why.
        #[source]
        cause: Box<PortalTakeInError>,
    },
}

impl PortalTakeInError {
    /// The same after the project file has got some apps.
    fn after(self, apps: &[String]) -> Self {
        match apps {
            [] => self,
            apps => PortalTakeInError::HalfWay { apps: apps.to_vec(), cause: Box::new(self) },
        }
    }
}

/// Everything that the portal says, read and verified.
struct There {
    team: wire::Team,
    above: Vec<Certificate>,
    certificates: Vec<(wire::Certificate, Certificate)>,
    app_ids: Vec<wire::AppId>,
    devices: Vec<wire::Device>,
    profiles: Vec<ProfileFit>,
}

/// Holds everything that stands at the portal against what is here, and takes in what is new.
///
/// # Errors
/// [`PortalTakeInError`]; then the cabinet is as it was, and but for [`PortalTakeInError::HalfWay`] the project file too.
pub fn portal_take_in(ctx: &Ctx<'_>, dry_run: bool) -> Result<PortalTakeInReport, PortalTakeInError> {
    let file = ctx.project_file()?;
    let roots = identity::roots(Some(&file))?;
    let now = ctx.env.now;
    let mut cabinet = ctx.open_unlocked()?;
    let inventory = cabinet.inventory()?;
    let mut there = with_portal(ctx, &cabinet, &file, (ApiUse::Signing, None), |portal| {
        There::read(portal, &Here { project: &file.project, inventory: &inventory, roots: &roots, now })
    })?;
    drop(inventory);
    // as it is now: somebody else may have written into it while this waited for a passphrase
    let mut app_ids = app_ids(&there, &ctx.project_file()?.project, now);
    let apps = if dry_run { Vec::new() } else { take_apps(ctx, &mut app_ids)? };
    let judged = there.take(ctx, &mut cabinet, &roots, dry_run).map_err(|cause| cause.after(&apps))?;
    Ok(PortalTakeInReport {
        portal: file.project.portal.clone().unwrap_or_default(),
        dry_run,
        limits: there.limits(now),
        team: there.team.team,
        certificates: judged.certificates.into_iter().map(|(one, _)| one).collect(),
        app_ids,
        devices: judged.devices,
        profiles: judged.profiles,
        at: now,
    })
}

impl There {
    /// Asks for everything, and reads it; refuses what cannot be believed.
    fn read(portal: &dyn Portal, here: &Here<'_>) -> Result<There, PortalTakeInError> {
        let unreadable = PortalTakeInError::Unreadable;
        let team = portal.team()?;
        if !is_team(&team.team) {
            return Err(unreadable("the team"));
        }
        let above = portal.authorities()?;
        let pool = here.pool(&above);
        let mut certificates = Vec::new();
        for said in portal.certificates()? {
            let parsed = Certificate::parse(&said.certificate, &Limits::USUAL);
            certificates.push((said, parsed.map_err(|_| unreadable("a certificate"))?));
        }
        let app_ids = portal.app_ids()?;
        let mut devices = portal.devices()?;
        for device in &mut devices {
            device.identifier = device::identifier(&device.identifier)?;
            check_title(&device.title)?;
        }
        // one that is said twice is one
        let mut seen = HashSet::new();
        devices.retain(|device| seen.insert(device.identifier.clone()));
        for one in &app_ids {
            check_title(&one.title)?;
            check_bundle_id(&one.bundle_id)?;
        }
        let measure = Measure { project: Some(here.project), roots: here.roots, pool: &pool, now: here.now };
        let mut profiles = Vec::new();
        for said in portal.profiles()? {
            check_title(&said.title)?;
            let named = PathBuf::from(format!("the profile \"{}\" from the portal", said.title));
            profiles.push(ProfileFit::read(&named, said.file, &measure)?);
        }
        Ok(There { team, above, certificates, app_ids, devices, profiles })
    }

    /// How much there is of what is limited.
    fn limits(&self, now: Timestamp) -> Option<LimitsSaid> {
        let limits = self.team.limits?;
        let counts = |(said, own): &&(wire::Certificate, Certificate)| {
            said.kind == KindSaid::Distribution && no_good(said, own, now).is_none()
        };
        let used = self.certificates.iter().filter(counts).count();
        Some(LimitsSaid {
            distribution_certificates: Limit { used, most: limits.distribution_certificates },
            devices: Limit { used: self.devices.len(), most: limits.devices },
        })
    }

    /// Says what everything is to the cabinet, and takes in what is new.
    fn take(
        &mut self,
        ctx: &Ctx<'_>,
        cabinet: &mut Cabinet<'_>,
        roots: &[Certificate],
        dry_run: bool,
    ) -> Result<Judged, PortalTakeInError> {
        let project = ctx.project_file()?.project;
        self.profiles.iter_mut().for_each(|fit| fit.find_apps(&project));
        let judge = |inventory: &Inventory| {
            self.judge(&Here { project: &project, inventory, roots, now: ctx.env.now })
        };
        let judged = judge(&*cabinet.inventory()?)?;
        if dry_run || !judged.is_news() {
            return Ok(judged);
        }
        cabinet.change("portal take-in", &ctx.env, |change| {
            // as it is now: somebody else may have taken some of it in meanwhile
            let judged = judge(&change.inventory())?;
            self.put(change, judged, roots)
        })
    }

    /// Puts in what is new, and takes up what is different; tells it with the names that it got.
    fn put(
        &self,
        change: &mut Change<'_>,
        mut judged: Judged,
        roots: &[Certificate],
    ) -> Result<Judged, PortalTakeInError> {
        identity::put_authorities(change, &self.above)?;
        for (one, work) in &mut judged.certificates {
            match work {
                Work::Put(fit) => one.identity = Some(fit.put(change, None, None)?.0),
                Work::NoteRevoked(id, at) => identity::note_revoked(change, id, *at)?,
                Work::None => {}
            }
        }
        for one in judged.devices.iter_mut().filter(|one| one.standing == Standing::New) {
            one.device = Some(device::put(change, &one.title, &one.identifier)?.device);
        }
        // the earlier first, so that the later takes its place
        let mut order: Vec<(&ProfileFit, &mut TakenProfile)> =
            self.profiles.iter().zip(&mut judged.profiles).collect();
        order.sort_by_key(|(fit, _)| fit.verified.profile.not_before);
        for (fit, one) in order {
            if matches!(one.standing, Standing::New | Standing::Different) {
                one.profile = Some(fit.put(change, None, roots)?.0);
            }
        }
        Ok(judged)
    }
}
