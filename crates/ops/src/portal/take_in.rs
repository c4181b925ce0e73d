//! `portal take-in`: what stands at the portal held against what is here, and what is new taken in.

use std::collections::{BTreeSet, HashMap};
use std::path::PathBuf;

use base64ct::{Base64, Encoding};
use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Change};
use ninekeys_core::digest::{hex, sha256_hex};
use ninekeys_core::ios::profile::pattern_of;
use ninekeys_core::model::{
    ApiUse, Capability, Destination, DeviceFacts, Facts, Inventory, Item, NameError, NineKey, Project, State,
    check_title,
};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::client::{Portal, PortalError};
use ninekeys_portal::wire;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{ConnectError, with_portal};
use crate::answers::{self, CertificateSaid};
use crate::app;
use crate::app::add::{AppAddError, IdError, app_add, check_bundle_id};
use crate::app::change::{AppChangeError, app_change};
use crate::app::ios::IosSays;
use crate::ctx::{Ctx, OpenError};
use crate::device::{self, IdentifierError};
use crate::identity::accept::{Fit, Place, UnfitError};
use crate::identity::{self, CertificatesError};
use crate::profile::import::{Fit as ProfileFit, Measure, ProfileImportError, slug};
use crate::project::ProjectError;

/// What stands at the portal, and what that means for the cabinet and the project file.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PortalTakeInReport {
    /// The portal's address.
    pub portal: String,
    /// The team's id.
    pub team: String,
    /// Whether nothing was changed.
    pub dry_run: bool,
    /// How much there may be of what is limited, as far as the portal says it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limits: Option<LimitsSaid>,
    /// The certificates.
    pub certificates: Vec<TakenCertificate>,
    /// The app ids.
    pub app_ids: Vec<TakenAppId>,
    /// The devices.
    pub devices: Vec<TakenDevice>,
    /// The profiles.
    pub profiles: Vec<TakenProfile>,
    /// The time of this report.
    pub at: Timestamp,
}

/// How much there may be.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LimitsSaid {
    /// Distribution certificates that are good at once.
    pub distribution_certificates: usize,
    /// Devices.
    pub devices: usize,
}

/// What something at the portal is to what is here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// It was not here.
    New,
    /// It was here, as it is there.
    Known,
    /// It was here, and is something else there.
    Different,
    /// It was not here, and is good for nothing any more.
    Left,
}

/// Why something is left where it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Because {
    /// It was revoked; a profile, when every certificate that it names was, or is over.
    Revoked,
    /// Its time is over.
    Expired,
    /// A later one of the same title, for the same, stands there too.
    Superseded,
    /// It is for several apps, and so for none in the project file.
    Wildcard,
}

/// A certificate at the portal.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenCertificate {
    /// What it is to what is here.
    pub standing: Standing,
    /// Why it is left there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub because: Option<Because>,
    /// The identity here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub identity: Option<String>,
    /// Which of the nine it is.
    pub kind: NineKey,
    /// The certificate.
    pub certificate: CertificateSaid,
    /// Its serial number, hexadecimal.
    pub serial: String,
    /// Whether the private key is in the cabinet.
    pub has_key: bool,
    /// When it was revoked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub revoked: Option<Timestamp>,
    /// The profiles at the portal that are good and name it.
    pub profiles: Vec<String>,
    /// How many builds of the ledger were signed with it.
    pub releases: usize,
    /// Whether it is good, and nothing that is known uses it. A push certificate's use cannot be seen.
    pub unused: bool,
}

/// An app id at the portal.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenAppId {
    /// What it is to what is here.
    pub standing: Standing,
    /// Why it is left there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub because: Option<Because>,
    /// The app of the project file that it is of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub app: Option<String>,
    /// The extension of that app.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub extension: Option<String>,
    /// The bundle id.
    pub bundle_id: String,
    /// What it is called there.
    pub title: String,
    /// What is switched on there.
    pub capabilities: Vec<Capability>,
    /// What the project file has and the portal has not switched on.
    pub off_there: Vec<Capability>,
    /// What the portal has switched on and the project file does not have.
    pub off_here: Vec<Capability>,
    /// The profiles at the portal that are good and for it.
    pub profiles: Vec<String>,
    /// Whether there is none.
    pub unused: bool,
}

/// A device at the portal.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenDevice {
    /// What it is to what is here.
    pub standing: Standing,
    /// The device here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// Its hardware identifier.
    pub identifier: String,
    /// What it is called there.
    pub title: String,
    /// What it is called here, where that is something else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title_here: Option<String>,
    /// The profiles at the portal that are good and allow it.
    pub profiles: Vec<String>,
    /// Whether there is none.
    pub unused: bool,
}

/// A profile at the portal.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenProfile {
    /// What it is to what is here.
    pub standing: Standing,
    /// Why it is left there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub because: Option<Because>,
    /// The profile here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profile: Option<String>,
    /// What it is called in the file.
    pub title: String,
    /// Its identifier in the file.
    pub uuid: String,
    /// What builds with it are for.
    pub destination: Destination,
    /// The app id that it is for, with the team's prefix.
    pub app_id: String,
    /// Until when it is good.
    pub not_after: Timestamp,
    /// The one here that it takes the place of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub replaces: Option<String>,
    /// Whether every certificate that it names is revoked or over: nothing can be signed with it.
    pub unused: bool,
}

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

/// Everything that the portal says, read and verified.
struct There {
    team: wire::Team,
    above: Vec<Certificate>,
    certificates: Vec<(wire::Certificate, Certificate)>,
    app_ids: Vec<wire::AppId>,
    devices: Vec<wire::Device>,
    profiles: Vec<ProfileFit>,
}

/// What it is held against.
struct Here<'a> {
    project: &'a Project,
    inventory: &'a Inventory,
    roots: &'a [Certificate],
    now: Timestamp,
}

/// What a kind of thing at the portal is to the cabinet.
struct Judged {
    certificates: Vec<(TakenCertificate, Option<Fit>)>,
    devices: Vec<TakenDevice>,
    profiles: Vec<TakenProfile>,
    lacks_authorities: bool,
}

impl Judged {
    /// Whether there is something to be taken into the cabinet.
    fn is_news(&self) -> bool {
        let news = |standing: Standing| matches!(standing, Standing::New | Standing::Different);
        self.lacks_authorities
            || self.certificates.iter().any(|(one, _)| news(one.standing))
            || self.devices.iter().any(|one| one.standing == Standing::New)
            || self.profiles.iter().any(|one| news(one.standing))
    }
}

/// Holds everything that stands at the portal against what is here, and takes in what is new.
///
/// # Errors
/// [`PortalTakeInError`]; then the cabinet is as it was, and but for [`PortalTakeInError::HalfWay`] the project file too.
pub fn portal_take_in(ctx: &Ctx<'_>, dry_run: bool) -> Result<PortalTakeInReport, PortalTakeInError> {
    let file = ctx.project_file()?;
    let roots = identity::roots(Some(&file))?;
    let mut cabinet = ctx.open()?;
    ctx.unlock(&mut cabinet)?;
    let inventory = cabinet.inventory()?;
    let mut there = with_portal(ctx, &cabinet, &file, (ApiUse::Signing, None), |portal| {
        let measure = Here { project: &file.project, inventory: &inventory, roots: &roots, now: ctx.env.now };
        There::read(portal, &measure)
    })?;
    // as it is now: somebody else may have written into it while this waited for a passphrase
    let mut app_ids = app_ids(&there, &ctx.project_file()?.project, ctx.env.now);
    let apps = if dry_run { Vec::new() } else { take_apps(ctx, &mut app_ids)? };
    let project = ctx.project_file()?.project;
    there.profiles.iter_mut().for_each(|fit| fit.find_apps(&project));
    let judge = |inventory: &Inventory| {
        there.judge(&Here { project: &project, inventory, roots: &roots, now: ctx.env.now })
    };
    let taken = judge(&inventory).and_then(|judged| {
        if dry_run || !judged.is_news() {
            return Ok(judged);
        }
        cabinet.change("portal take-in", &ctx.env, |change| {
            let inventory = change.inventory();
            // as it is now: somebody else may have taken some of it in meanwhile
            let judged = judge(&inventory)?;
            there.take(change, judged, &roots)
        })
    });
    let judged = taken.map_err(|cause| match apps.is_empty() {
        true => cause,
        false => PortalTakeInError::HalfWay { apps, cause: Box::new(cause) },
    })?;
    Ok(PortalTakeInReport {
        portal: file.project.portal.clone().unwrap_or_default(),
        team: there.team.team.clone(),
        dry_run,
        limits: there.team.limits.map(|limits| LimitsSaid {
            distribution_certificates: limits.distribution_certificates,
            devices: limits.devices,
        }),
        certificates: judged.certificates.into_iter().map(|(one, _)| one).collect(),
        app_ids,
        devices: judged.devices,
        profiles: judged.profiles,
        at: ctx.env.now,
    })
}

fn bytes(text: &str, what: &'static str) -> Result<Vec<u8>, PortalTakeInError> {
    Base64::decode_vec(text).map_err(|_| PortalTakeInError::Unreadable(what))
}

fn certificate(der: &[u8]) -> Result<Certificate, PortalTakeInError> {
    Certificate::parse(der, &Limits::USUAL).map_err(|_| PortalTakeInError::Unreadable("a certificate"))
}

impl Here<'_> {
    fn pool(&self, above: &[Certificate]) -> Vec<Certificate> {
        let mut pool = identity::authorities(self.inventory);
        pool.extend(above.iter().chain(self.roots).cloned());
        pool
    }
}

impl There {
    /// Asks for everything, and reads it; refuses what cannot be believed.
    fn read(portal: &dyn Portal, here: &Here<'_>) -> Result<There, PortalTakeInError> {
        let team = portal.team()?;
        let above = portal.authorities()?;
        let above = above.iter().map(|der| certificate(der)).collect::<Result<Vec<_>, _>>()?;
        let pool = here.pool(&above);
        let mut certificates = Vec::new();
        for said in portal.certificates()? {
            let parsed = certificate(&bytes(&said.certificate, "a certificate")?)?;
            certificates.push((said, parsed));
        }
        let app_ids = portal.app_ids()?;
        let mut devices = portal.devices()?;
        for device in &mut devices {
            device.identifier = device::identifier(&device.identifier)?;
            check_title(&device.title)?;
        }
        for one in &app_ids {
            check_title(&one.title)?;
            check_bundle_id(&one.bundle_id)?;
        }
        let measure = Measure { project: Some(here.project), roots: here.roots, pool: &pool, now: here.now };
        let mut profiles = Vec::new();
        for said in portal.profiles()? {
            check_title(&said.title)?;
            let named = PathBuf::from(format!("the profile \"{}\" from the portal", said.title));
            profiles.push(ProfileFit::read(&named, bytes(&said.file, "a profile")?, &measure)?);
        }
        Ok(There { team, above, certificates, app_ids, devices, profiles })
    }

    /// The profiles that are good now and of which something is so.
    fn profiles_where(&self, now: Timestamp, so: impl Fn(&ProfileFit) -> bool) -> Vec<String> {
        let good = self.profiles.iter().filter(|fit| fit.not_after() >= now && so(fit));
        let mut titles: Vec<String> = good.map(|fit| fit.verified.profile.title.clone()).collect();
        titles.sort();
        titles.dedup();
        titles
    }

    /// What everything is to the cabinet.
    fn judge(&self, here: &Here<'_>) -> Result<Judged, PortalTakeInError> {
        let pool = here.pool(&self.above);
        let certificates =
            self.certificates.iter().map(|(said, own)| self.certificate(said, own, here, &pool));
        Ok(Judged {
            certificates: certificates.collect::<Result<_, _>>()?,
            devices: self.devices(here),
            profiles: (0..self.profiles.len()).filter_map(|place| self.profile(place, here)).collect(),
            lacks_authorities: self
                .above
                .iter()
                .any(|one| identity::certificate_with(here.inventory, &sha256_hex(&one.der)).is_none()),
        })
    }

    fn certificate(
        &self,
        said: &wire::Certificate,
        own: &Certificate,
        here: &Here<'_>,
        pool: &[Certificate],
    ) -> Result<(TakenCertificate, Option<Fit>), PortalTakeInError> {
        let fit = Fit::read(own.clone(), &[], Some(here.project), pool)?;
        let key = fit.key(here.inventory);
        let place = fit.place(here.inventory, key);
        let item = match &place {
            Place::Known(id) | Place::Waiting(id) | Place::Keyless(id) => here.inventory.get(id),
            Place::New => None,
        };
        let revoked_here = item.is_some_and(|item| match &item.facts {
            Facts::Identity(facts) => facts.revoked.is_some(),
            _ => false,
        });
        let because = match (said.revoked, answers::time(own.not_after) < here.now) {
            (Some(_), _) => Some(Because::Revoked),
            (None, true) => Some(Because::Expired),
            (None, false) => None,
        };
        let standing = match (&place, because) {
            (Place::Known(_), Some(Because::Revoked)) if !revoked_here => Standing::Different,
            (Place::Known(_), _) => Standing::Known,
            (_, Some(_)) => Standing::Left,
            (_, None) => Standing::New,
        };
        let fingerprint = sha256_hex(&own.der);
        let profiles =
            self.profiles_where(here.now, |fit| fit.verified.profile.certificates.contains(&own.der));
        let releases = signed_with(here.inventory, &fingerprint);
        let kind = fit.purpose.nine_key();
        let taken = TakenCertificate {
            standing,
            because: because.filter(|_| standing == Standing::Left),
            identity: item.map(|item| item.name.clone()),
            kind,
            certificate: CertificateSaid::from(own),
            serial: hex(&own.serial),
            has_key: key.is_some(),
            revoked: said.revoked,
            unused: because.is_none() && kind != NineKey::Push && profiles.is_empty() && releases == 0,
            profiles,
            releases,
        };
        Ok((taken, Some(fit).filter(|_| standing == Standing::New)))
    }

    /// What the devices are to those here; both sides are gone through once, since there may be many.
    fn devices(&self, here: &Here<'_>) -> Vec<TakenDevice> {
        let all = device::all(here.inventory);
        let known: HashMap<String, (&Item, &DeviceFacts)> =
            all.into_iter().map(|own| (own.1.identifier.to_ascii_lowercase(), own)).collect();
        let mut allowed: HashMap<String, BTreeSet<&str>> = HashMap::new();
        for fit in self.profiles.iter().filter(|fit| fit.not_after() >= here.now) {
            let profile = &fit.verified.profile;
            for identifier in profile.devices.iter().flatten() {
                allowed.entry(identifier.to_ascii_lowercase()).or_default().insert(&profile.title);
            }
        }
        let said = self.devices.iter().map(|device| {
            let identifier = device.identifier.to_ascii_lowercase();
            let profiles = allowed.get(&identifier).into_iter().flatten().map(|title| (*title).to_owned());
            Self::device(device, known.get(&identifier).copied(), profiles.collect())
        });
        said.collect()
    }

    fn device(
        device: &wire::Device,
        known: Option<(&Item, &DeviceFacts)>,
        profiles: Vec<String>,
    ) -> TakenDevice {
        let called = known.map(|(_, facts)| facts.title.clone()).filter(|title| *title != device.title);
        TakenDevice {
            standing: match (&known, &called) {
                (None, _) => Standing::New,
                (Some(_), None) => Standing::Known,
                (Some(_), Some(_)) => Standing::Different,
            },
            device: known.map(|(item, _)| item.name.clone()),
            identifier: device.identifier.clone(),
            title: device.title.clone(),
            title_here: called,
            unused: profiles.is_empty(),
            profiles,
        }
    }

    fn profile(&self, place: usize, here: &Here<'_>) -> Option<TakenProfile> {
        let (before, rest) = self.profiles.split_at_checked(place)?;
        let (fit, behind) = rest.split_first()?;
        let known = fit.known(here.inventory);
        // of two that were made in the same second, the later is the one that stands behind
        let is_later = |other: &&ProfileFit| other.is_like(fit) && other.not_after() >= here.now;
        let begins = |fit: &ProfileFit| fit.verified.profile.not_before;
        let later = before.iter().filter(is_later).any(|other| begins(other) > begins(fit))
            || behind.iter().filter(is_later).any(|other| begins(other) >= begins(fit));
        let older = fit.older(here.inventory);
        let good = |der: &Vec<u8>| {
            let said = self.certificates.iter().find(|(_, own)| own.der == *der);
            said.is_none_or(|(said, _)| said.revoked.is_none() && said.not_after >= here.now)
        };
        let profile = &fit.verified.profile;
        let unused = !profile.certificates.iter().any(good);
        let because = match (fit.not_after() < here.now, later, unused) {
            (true, ..) => Some(Because::Expired),
            (false, true, _) => Some(Because::Superseded),
            (false, false, true) => Some(Because::Revoked),
            (false, false, false) => None,
        };
        let standing = match (known, because, older) {
            (Some(_), ..) => Standing::Known,
            (None, Some(_), _) => Standing::Left,
            (None, None, Some(_)) => Standing::Different,
            (None, None, None) => Standing::New,
        };
        Some(TakenProfile {
            standing,
            because: because.filter(|_| standing == Standing::Left),
            profile: known.map(|item| item.name.clone()),
            title: profile.title.clone(),
            uuid: profile.uuid.clone(),
            destination: fit.verified.destination,
            app_id: fit.verified.app_id.clone(),
            not_after: fit.not_after(),
            replaces: older.filter(|_| standing == Standing::Different).map(|item| item.name.clone()),
            unused,
        })
    }

    /// Takes in what is new, and takes up what is different; tells it with the names that it got.
    fn take(
        &self,
        change: &mut Change<'_>,
        mut judged: Judged,
        roots: &[Certificate],
    ) -> Result<Judged, PortalTakeInError> {
        identity::put_authorities(change, &self.above)?;
        for (one, fit) in &mut judged.certificates {
            if let Some(fit) = fit {
                one.identity = Some(fit.put(change, None, None)?.0);
            } else if one.standing == Standing::Different
                && let Some(name) = &one.identity
            {
                note_revoked(change, name, one.revoked)?;
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

/// How many builds of the ledger were signed with a certificate.
fn signed_with(inventory: &Inventory, fingerprint: &str) -> usize {
    let with = |facts: &Facts| matches!(facts, Facts::Release(r) if r.signer_certificate == fingerprint);
    inventory.iter().filter(|item| with(&item.facts)).count()
}

/// Writes down that an identity was revoked, which somebody did at the portal.
fn note_revoked(
    change: &mut Change<'_>,
    name: &str,
    revoked: Option<Timestamp>,
) -> Result<(), PortalTakeInError> {
    let found = change.inventory().find(name).ok().cloned();
    let Some(mut item) = found else {
        return Err(CabinetError::Tampered(format!("the identity {name} is gone")).into());
    };
    if let Facts::Identity(facts) = &mut item.facts {
        facts.revoked = revoked;
    }
    item.state = State::Retired;
    Ok(change.revise(&item, None)?)
}

/// What the app ids are to the project file.
fn app_ids(there: &There, project: &Project, now: Timestamp) -> Vec<TakenAppId> {
    let of = |said: &wire::AppId| {
        let place = place_of(project, &said.bundle_id);
        let here = place.as_ref().map(|(_, extension, has)| match extension {
            // an extension has what its app has
            Some(_) => said.capabilities.as_slice(),
            None => *has,
        });
        let lacks = |has: &[Capability], all: &[Capability]| -> Vec<Capability> {
            all.iter().filter(|one| !has.contains(one)).copied().collect()
        };
        let off_there = here.map(|here| lacks(&said.capabilities, here)).unwrap_or_default();
        let off_here = here.map(|here| lacks(here, &said.capabilities)).unwrap_or_default();
        let pattern = |fit: &ProfileFit| pattern_of(&fit.verified.app_id) == said.bundle_id;
        let profiles = there.profiles_where(now, pattern);
        let is_wildcard = said.bundle_id.ends_with('*');
        TakenAppId {
            standing: match (&place, off_there.is_empty() && off_here.is_empty()) {
                (Some(_), true) => Standing::Known,
                (Some(_), false) => Standing::Different,
                (None, _) if is_wildcard => Standing::Left,
                (None, _) => Standing::New,
            },
            because: (place.is_none() && is_wildcard).then_some(Because::Wildcard),
            app: place.as_ref().map(|(app, ..)| (*app).to_owned()),
            extension: place.and_then(|(_, extension, _)| extension.map(str::to_owned)),
            bundle_id: said.bundle_id.clone(),
            title: said.title.clone(),
            capabilities: said.capabilities.clone(),
            off_there,
            off_here,
            unused: profiles.is_empty(),
            profiles,
        }
    };
    there.app_ids.iter().map(of).collect()
}

/// The app of a bundle id, the extension where it is one's, and the app's capabilities.
fn place_of<'a>(
    project: &'a Project,
    bundle_id: &str,
) -> Option<(&'a str, Option<&'a str>, &'a [Capability])> {
    project.apps.iter().find_map(|(name, app)| {
        let ios = app.ios.as_ref()?;
        if ios.bundle_id == bundle_id {
            return Some((name.as_str(), None, ios.capabilities.as_slice()));
        }
        let inside = ios.extensions.iter().find(|(_, id)| *id == bundle_id);
        inside.map(|(inside, _)| (name.as_str(), Some(inside.as_str()), ios.capabilities.as_slice()))
    })
}

/// Writes the new app ids into the project file: as an app, or as an extension of the app whose id theirs begins with.
fn take_apps(ctx: &Ctx<'_>, all: &mut [TakenAppId]) -> Result<Vec<String>, PortalTakeInError> {
    let mut taken: Vec<String> = Vec::new();
    let mut new: Vec<&mut TakenAppId> = all.iter_mut().filter(|one| one.standing == Standing::New).collect();
    // an app comes before what is inside it
    new.sort_by_key(|one| one.bundle_id.len());
    for one in new {
        let project = ctx.project_file()?.project;
        let bundle_id = one.bundle_id.clone();
        if let Some((app, extension, _)) = place_of(&project, &bundle_id) {
            one.standing = Standing::Known;
            (one.app, one.extension) = (Some(app.to_owned()), extension.map(str::to_owned));
            continue;
        }
        let last = slug(bundle_id.rsplit('.').next().unwrap_or_default());
        let holder = project.apps.iter().find(|(_, app)| {
            let id = app.ios.as_ref().map(|ios| ios.bundle_id.as_str());
            id.and_then(|id| bundle_id.strip_prefix(id)).is_some_and(|rest| rest.starts_with('.'))
        });
        let half_way = |cause: PortalTakeInError, taken: &[String]| match taken.is_empty() {
            true => cause,
            false => PortalTakeInError::HalfWay { apps: taken.to_vec(), cause: Box::new(cause) },
        };
        let mut request = app::Request {
            name: String::new(),
            title: None,
            package: None,
            bundle_id: None,
            destinations: Vec::new(),
            version: None,
            ios: IosSays::default(),
        };
        if let Some((name, holder)) = holder {
            let known = holder.ios.iter().flat_map(|ios| ios.extensions.keys()).map(|name| name.as_str());
            let inside = free(&last, known);
            request.name = name.to_string();
            request.ios.extensions = vec![(inside.clone(), bundle_id.clone())];
            let done = app_change(ctx, &request);
            let done = done.map_err(|cause| PortalTakeInError::Extension { bundle_id, cause });
            one.app = Some(done.map_err(|cause| half_way(cause, &taken))?.app);
            one.extension = Some(inside);
        } else {
            request.name = free(&last, project.apps.keys().map(|name| name.as_str()));
            request.title = Some(one.title.clone());
            request.bundle_id = Some(bundle_id.clone());
            request.ios.capabilities.clone_from(&one.capabilities);
            let done = app_add(ctx, request);
            let done = done.map_err(|cause| PortalTakeInError::App { bundle_id, cause });
            one.app = Some(done.map_err(|cause| half_way(cause, &taken))?.app);
        }
        taken.extend(one.app.clone());
    }
    taken.dedup();
    Ok(taken)
}

/// A name that none of these is: the one that was thought of, or the next with a number behind it.
fn free<'a>(base: &str, known: impl Iterator<Item = &'a str>) -> String {
    let known: Vec<String> = known.map(str::to_ascii_lowercase).collect();
    let numbered = (2..).map(|number| format!("{base}-{number}"));
    let mut all = std::iter::once(base.to_owned()).chain(numbered);
    all.find(|name| !known.contains(&name.to_ascii_lowercase())).unwrap_or_default()
}
