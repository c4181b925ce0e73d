//! `prepare`: makes or renews whatever an app lacks for a destination, after saying what.
//!
//! Each step is a change of its own, and what was done is seen by the next call: it goes on from there. What a portal is asked
//! for is asked under a name that follows from what is asked, so that nothing is issued twice.

use std::path::PathBuf;

use base64ct::{Base64, Encoding};
use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, NewItem};
use ninekeys_core::certificate::{CertificateError, Subject};
use ninekeys_core::digest::{from_hex, hex, sha256_hex};
use ninekeys_core::ios::setup::{IdentityChoice, Part, Setup, Wanted, allows_device, signs_for};
use ninekeys_core::keys::{Algorithm, KeyError, PrivateKey, Signer};
use ninekeys_core::model::{
    ApiUse, App, Capability, Destination, Facts, IdentityFacts, IdentityPurpose, Inventory, Ios, KeyFacts,
    NineKey, Project, State,
};
use ninekeys_core::request as pkcs10;
use ninekeys_core::rules::check_setup;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::request::LABEL;
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::client::{Portal, PortalError};
use ninekeys_portal::wire::{AppId, Capabilities, Device, KindSaid, NewCertificate, NewProfile};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::device;
use crate::files::{Access, FileError, Taken};
use crate::identity::accept::{Fit, UnfitError};
use crate::identity::{self, CertificatesError};
use crate::outgoing::Outgoing;
use crate::outputs::{self, OutputError};
use crate::portal::{self, ConnectError};
use crate::profile::import::{Fit as ProfileFit, Measure, ProfileImportError};
use crate::project::{ProjectError, ProjectFile};

/// What is to be prepared.
#[derive(Debug)]
pub struct Request {
    /// The app.
    pub app: String,
    /// Where its build goes.
    pub destination: Destination,
    /// Whether it is only said what would be done.
    pub dry_run: bool,
    /// Whether it is done without asking.
    pub sure: bool,
}

/// What was done, or would be.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PrepareReport {
    /// Whether everything is in place now.
    pub ready: bool,
    /// The app's name.
    pub app: String,
    /// What people call it.
    pub title: String,
    /// Where its build goes.
    pub destination: Destination,
    /// Whether it was only said what would be done.
    pub dry_run: bool,
    /// The portal that was asked, or would be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub portal: Option<String>,
    /// The steps, in order.
    pub steps: Vec<Step>,
    /// What a person has to fetch before it can go on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub waits: Option<Waits>,
    /// The time of this report.
    pub at: Timestamp,
}

/// One step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Step {
    /// What is done.
    pub does: Does,
    /// With what: a name, an id, a title.
    pub name: String,
    /// What is to be known of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

/// What a step does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Does {
    /// A key is made and sealed, with the request for its certificate.
    MakeKey,
    /// A certificate is issued and joined to its key.
    GetCertificate,
    /// A bundle id is registered, for ever.
    RegisterAppId,
    /// Capabilities are switched on.
    SwitchOn,
    /// A device is registered.
    RegisterDevice,
    /// A profile is made and taken in.
    GetProfile,
}

/// What a person has to fetch.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Waits {
    /// What to do at the portal.
    pub what: String,
    /// The file to upload there, where there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The command that takes in what comes back, as arguments behind the program's name.
    pub next: Vec<String>,
}

/// Why it was not prepared.
#[derive(Debug, Error)]
pub enum PrepareError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The project file has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The app has no iOS side.
    #[error("{0} has no iOS side in the project file")]
    NotIos(String),
    /// No iOS build goes there.
    #[error("builds for {0} are not for iOS")]
    Destination(Destination),
    /// No device is registered, and the destination is for devices.
    #[error("builds for {} run on registered devices, and none is registered", .0.phrase())]
    NoDevices(Destination),
    /// Nobody said yes.
    #[error("{0} would be done at the portal, and nobody said yes")]
    NotSure(String),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The portal cannot be asked.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The portal did not do it.
    #[error(transparent)]
    Portal(#[from] PortalError),
    /// What the portal issued is not what was asked for.
    #[error(transparent)]
    Unfit(#[from] UnfitError),
    /// A certificate over another key.
    #[error("the portal issued a certificate over another key than was asked for")]
    OtherKey,
    /// A profile that is not to be believed.
    #[error(transparent)]
    Profile(#[from] ProfileImportError),
    /// Something that is no Base64 or no certificate.
    #[error("what the portal issued cannot be read")]
    Unreadable,
    /// The project's roots.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
    /// The request.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// The key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The file with the request.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The same.
    #[error(transparent)]
    File(#[from] FileError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// Some steps were done, and the next was not.
    #[error("{cause}")]
    HalfWay {
        /// Those that were done.
        done: Vec<Step>,
        /// Why the next was not.
        #[source]
        cause: Box<PrepareError>,
    },
}

/// What is prepared, and for what.
struct Job<'a> {
    ctx: &'a Ctx<'a>,
    file: &'a ProjectFile,
    name: &'a str,
    app: &'a App,
    ios: &'a Ios,
    destination: Destination,
    roots: Vec<Certificate>,
}

impl<'a> Job<'a> {
    fn project(&self) -> &'a Project {
        &self.file.project
    }

    fn pool(&self, inventory: &Inventory) -> Vec<Certificate> {
        let mut pool = identity::authorities(inventory);
        pool.extend(self.roots.iter().cloned());
        pool
    }

    /// Looks at what there is, and lends it to some work.
    fn look<R>(&self, inventory: &Inventory, work: impl FnOnce(&Setup<'_>) -> R) -> R {
        let pool = self.pool(inventory);
        work(&Setup::of(Wanted {
            app: self.name,
            title: &self.app.title,
            ios: self.ios,
            destination: self.destination,
            team: self.project().team_of(self.ios),
            policy: &self.project().policy,
            inventory,
            roots: &self.roots,
            pool: &pool,
            now: self.ctx.env.now,
        }))
    }

    /// What an identity that is made for it is called.
    fn identity_name(&self, inventory: &Inventory) -> String {
        let word = match signs_for(self.destination) {
            NineKey::Development => "development",
            _ => "distribution",
        };
        identity::free_name(inventory, &format!("{word}-{}", self.year(1)))
    }

    fn year(&self, later: i16) -> i16 {
        self.ctx.env.now.to_zoned(jiff::tz::TimeZone::UTC).year() + later
    }

    /// What a profile for a part is called: app, part, kind and year.
    fn profile_title(&self, part: &Part<'_>) -> String {
        let inside = part.extension.map_or_else(String::new, |name| format!(" {name}"));
        format!("{}{inside} {} {}", self.app.title, self.destination, self.year(0))
    }
}

/// The identity that waits for its certificate, with its request.
fn waiting(inventory: &Inventory, destination: Destination) -> Option<(String, Vec<u8>)> {
    let kind = signs_for(destination);
    identity::all(inventory).into_iter().find_map(|(item, facts)| {
        let waits = item.state == State::Active
            && facts.purpose.nine_key() == kind
            && facts.certificate.is_none()
            && facts.key.is_some();
        let request = facts.request.as_deref().filter(|_| waits).and_then(from_hex)?;
        Some((item.name.clone(), request))
    })
}

/// Whether the profile of a part has to be made: none fits, or the one that does leaves out what there is now.
fn is_wanted(setup: &Setup<'_>, part: &Part<'_>) -> bool {
    let Some(taken) = part.taken() else { return true };
    let inventory = setup.wanted.inventory;
    let facts = taken.facts;
    let for_devices = matches!(setup.wanted.destination, Destination::Development | Destination::Devices);
    let left_out = for_devices
        && device::all(inventory).iter().any(|(_, one)| !allows_device(inventory, facts, &one.identifier));
    let too_old = part.extension.is_none()
        && setup
            .wanted
            .ios
            .capabilities
            .iter()
            .any(|one| !facts.entitlements.contains_key(one.entitlement()));
    let due = jiff::SignedDuration::from_hours(24 * i64::from(setup.wanted.policy.due_days));
    let ends_soon = facts.not_after.duration_since(setup.wanted.now) < due;
    let other_identity =
        setup.taken().is_some_and(|identity| !ninekeys_core::ios::setup::allows(inventory, facts, identity));
    left_out || too_old || ends_soon || other_identity
}

/// Whether the identity that is taken ends within the policy's days: then its successor is made.
fn ends_soon(setup: &Setup<'_>, identity: &IdentityChoice<'_>) -> bool {
    let due = jiff::SignedDuration::from_hours(24 * i64::from(setup.wanted.policy.due_days));
    identity.certificate.is_none_or(|own| own.not_after.duration_since(setup.wanted.now) < due)
}

/// Prepares the app for the destination.
///
/// # Errors
/// [`PrepareError`]; what was done before stays, and the next call goes on from there.
pub fn prepare(ctx: &Ctx<'_>, request: &Request) -> Result<PrepareReport, PrepareError> {
    let file = ctx.project_file()?;
    let unknown = || PrepareError::UnknownApp(request.app.clone());
    let (name, app) = file.project.app(&request.app).ok_or_else(unknown)?;
    let ios = app.ios.as_ref().ok_or_else(|| PrepareError::NotIos(app.title.clone()))?;
    let destination = request.destination;
    if !ninekeys_core::model::Platform::Ios.has(destination) {
        return Err(PrepareError::Destination(destination));
    }
    let roots = identity::roots(Some(&file))?;
    let job = Job { ctx, file: &file, name, app, ios, destination, roots };
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let by_portal = portal::can_ask(&file.project, &inventory, ApiUse::Signing);
    let plan = plan(&job, &inventory)?;
    let mut report = PrepareReport {
        ready: plan.is_empty() && job.look(&inventory, |setup| check_setup(setup).is_ready()),
        app: name.into(),
        title: app.title.clone(),
        destination,
        dry_run: request.dry_run,
        portal: file.project.portal.clone().filter(|_| by_portal),
        steps: plan,
        waits: None,
        at: ctx.env.now,
    };
    if report.steps.is_empty() || request.dry_run {
        return Ok(report);
    }
    if !by_portal {
        report.steps.clear();
        by_hand(&job, &mut cabinet, &mut report)?;
        return Ok(report);
    }
    agree(ctx, request, &report)?;
    ctx.unlock(&mut cabinet)?;
    let mut steps = Vec::new();
    // before a key is made for what nobody would issue
    with(&job, &cabinet, |portal| Ok(portal.team()?))?;
    if let Err(cause) = by_the_portal(&job, &mut cabinet, &mut steps) {
        return Err(match steps.is_empty() {
            true => cause,
            false => PrepareError::HalfWay { done: steps, cause: Box::new(cause) },
        });
    }
    let inventory = cabinet.inventory()?;
    report.steps = steps;
    report.ready = job.look(&inventory, |setup| check_setup(setup).is_ready());
    Ok(report)
}

/// Asks a person before something is done at the portal.
fn agree(ctx: &Ctx<'_>, request: &Request, report: &PrepareReport) -> Result<(), PrepareError> {
    if request.sure {
        return Ok(());
    }
    let words: Vec<String> = report.steps.iter().map(|step| step.sentence()).collect();
    let lines: String = words.iter().map(|line| format!("{line}\n")).collect();
    match ctx.ask.sure(&format!("{lines}Do it at the portal"))? {
        Some(true) => Ok(()),
        Some(false) => Err(AskError::Declined.into()),
        None => Err(PrepareError::NotSure(words.join("; "))),
    }
}

impl Step {
    fn new(does: Does, name: impl Into<String>) -> Self {
        Step { does, name: name.into(), detail: None }
    }

    fn with(mut self, detail: impl Into<String>) -> Self {
        self.detail = Some(detail.into());
        self
    }

    /// What is done, in a few words.
    pub fn sentence(&self) -> String {
        let name = &self.name;
        let detail = self.detail.as_ref().map_or_else(String::new, |detail| format!(" ({detail})"));
        match self.does {
            Does::MakeKey => format!("make a key for {name} and seal it"),
            Does::GetCertificate => format!("have a certificate issued for {name}"),
            Does::RegisterAppId => format!("register the bundle id {name}, which is for ever"),
            Does::SwitchOn => format!("switch on for {name}{detail}"),
            Does::RegisterDevice => format!("register the device {name}{detail}"),
            Does::GetProfile => format!("have the profile \"{name}\" made{detail}"),
        }
    }
}

/// What would be done, as far as the cabinet knows: what is at the portal already is seen when it is asked.
fn plan(job: &Job<'_>, inventory: &Inventory) -> Result<Vec<Step>, PrepareError> {
    let for_devices = matches!(job.destination, Destination::Development | Destination::Devices);
    if for_devices && device::all(inventory).is_empty() {
        return Err(PrepareError::NoDevices(job.destination));
    }
    Ok(job.look(inventory, |setup| {
        let mut steps = Vec::new();
        let needs_identity = setup.taken().is_none_or(|identity| ends_soon(setup, identity));
        if needs_identity {
            let name = match waiting(inventory, job.destination) {
                Some((name, _)) => name,
                None => {
                    let name = job.identity_name(inventory);
                    steps.push(Step::new(Does::MakeKey, name.clone()));
                    name
                }
            };
            steps.push(Step::new(Does::GetCertificate, name));
        }
        for part in setup.parts.iter().filter(|part| needs_identity || is_wanted(setup, part)) {
            let detail = format!("{} for {}", part.bundle_id, job.destination.phrase());
            steps.push(Step::new(Does::GetProfile, job.profile_title(part)).with(detail));
        }
        steps
    }))
}

/// Makes the key and the request for an identity, sealed in one change.
fn make_request(job: &Job<'_>, cabinet: &mut Cabinet<'_>, name: &str) -> Result<Vec<u8>, PrepareError> {
    let ctx = job.ctx;
    let secret = ctx.env.keys.make(Algorithm::Rsa2048)?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    let title = job.project().title.trim();
    let subject = Subject {
        common_name: Some(if title.is_empty() { name.to_owned() } else { title.to_owned() }),
        email: job.project().email_for(&[job.name.to_owned()]).map(str::to_owned),
        ..Subject::default()
    };
    let der = pkcs10::make(&key, &subject)?;
    let purpose = match signs_for(job.destination) {
        NineKey::Development => IdentityPurpose::Development,
        _ => IdentityPurpose::Distribution,
    };
    cabinet.change(&format!("prepare: key of {name}"), &ctx.env, |change| {
        let facts = KeyFacts {
            algorithm: key.public().shape().to_string(),
            public_key: hex(key.public().as_der()),
            fingerprint: key.public().fingerprint(),
        };
        let key = change.put(NewItem::new(format!("{name}/key"), Facts::Key(facts), Some(secret)))?;
        let facts = IdentityFacts {
            purpose,
            key: Some(key),
            certificate: None,
            team: None,
            apps: Vec::new(),
            request: Some(hex(&der)),
            held_by: None,
        };
        change.put(NewItem::new(name, Facts::Identity(facts), None))?;
        Ok::<_, CabinetError>(())
    })?;
    Ok(der)
}

/// Goes as far as it can without a portal that has an API: up to the next file that a person has to fetch.
fn by_hand(job: &Job<'_>, cabinet: &mut Cabinet<'_>, report: &mut PrepareReport) -> Result<(), PrepareError> {
    let inventory = cabinet.inventory()?;
    let needs_identity =
        job.look(&inventory, |setup| setup.taken().is_none_or(|identity| ends_soon(setup, identity)));
    if needs_identity {
        let known = waiting(&inventory, job.destination);
        let name = known.as_ref().map_or_else(|| job.identity_name(&inventory), |(name, _)| name.clone());
        let to = PathBuf::from(format!("{name}.csr"));
        let path = job.ctx.path(&to);
        outputs::refuse_ours(job.ctx, &[&path], &[])?;
        let der = match known {
            Some((_, der)) => der,
            None => {
                job.ctx.unlock(cabinet)?;
                report.steps.push(Step::new(Does::MakeKey, name.clone()));
                make_request(job, cabinet, &name)?
            }
        };
        if !path.exists() {
            let text = pem::encode(LABEL, &der).map(String::into_bytes).unwrap_or(der);
            Outgoing::write_whole(job.ctx, &path, &text, Access::Usual, Taken::Refuse)?;
        }
        let word = signs_for(job.destination).word();
        report.waits = Some(Waits {
            what: format!("upload {} at the portal, and fetch the certificate for a {word}", to.display()),
            file: Some(to.display().to_string()),
            next: ["identity", "accept", "FILE"].map(str::to_owned).into(),
        });
        return Ok(());
    }
    report.waits = job.look(&inventory, |setup| {
        let part = setup.parts.iter().find(|part| is_wanted(setup, part))?;
        let serial = setup.taken()?.certificate?.serial.clone();
        let devices = match job.destination {
            Destination::Development | Destination::Devices => ", with all devices",
            _ => "",
        };
        Some(Waits {
            what: format!(
                "have a profile made at the portal for {}, for {}, with the certificate of serial number {serial}{devices}",
                part.bundle_id,
                job.destination.phrase()
            ),
            file: None,
            next: ["profile", "import", "FILE"].map(str::to_owned).into(),
        })
    });
    Ok(())
}

/// Does everything through the portal, one step after the other.
fn by_the_portal(
    job: &Job<'_>,
    cabinet: &mut Cabinet<'_>,
    steps: &mut Vec<Step>,
) -> Result<(), PrepareError> {
    get_identity(job, cabinet, steps)?;
    register(job, cabinet, steps)?;
    get_profiles(job, cabinet, steps)
}

fn with<R>(
    job: &Job<'_>,
    cabinet: &Cabinet<'_>,
    work: impl FnOnce(&dyn Portal) -> Result<R, PrepareError>,
) -> Result<R, PrepareError> {
    portal::with_portal(job.ctx, cabinet, job.project(), ApiUse::Signing, work)
}

fn from_base64(text: &str) -> Result<Vec<u8>, PrepareError> {
    Base64::decode_vec(text).map_err(|_| PrepareError::Unreadable)
}

fn certificate(text: &str) -> Result<Certificate, PrepareError> {
    Certificate::parse(&from_base64(text)?, &Limits::USUAL).map_err(|_| PrepareError::Unreadable)
}

/// An identity that can sign, where there is none.
fn get_identity(job: &Job<'_>, cabinet: &mut Cabinet<'_>, steps: &mut Vec<Step>) -> Result<(), PrepareError> {
    let inventory = cabinet.inventory()?;
    let has = job.look(&inventory, |setup| setup.taken().is_some_and(|identity| !ends_soon(setup, identity)));
    if has {
        return Ok(());
    }
    let (name, der) = match waiting(&inventory, job.destination) {
        Some(known) => known,
        None => {
            let name = job.identity_name(&inventory);
            let der = make_request(job, cabinet, &name)?;
            steps.push(Step::new(Does::MakeKey, name.clone()));
            (name, der)
        }
    };
    let kind = match signs_for(job.destination) {
        NineKey::Development => KindSaid::Development,
        _ => KindSaid::Distribution,
    };
    let new =
        NewCertificate { kind, environment: None, bundle_id: None, request: Base64::encode_string(&der) };
    // the same request is the same call: however often it is made, one certificate is issued
    let call = format!("certificate-{}", sha256_hex(&der));
    let (issued, team) =
        with(job, cabinet, |portal| Ok((portal.new_certificate(&new, &call)?, portal.team()?)))?;
    let issued = certificate(&issued.certificate)?;
    let above = team.chain.iter().map(|text| certificate(text)).collect::<Result<Vec<_>, _>>()?;
    let mut pool = job.pool(&inventory);
    pool.extend(above.iter().cloned());
    let fit = Fit::read(issued, &[], Some(job.project()), &pool)?;
    let known = identity::find(&*cabinet.inventory()?, &name).ok().and_then(|(_, facts)| facts.key);
    if known.is_none() || fit.key(&*cabinet.inventory()?) != known {
        return Err(PrepareError::OtherKey);
    }
    cabinet.change(&format!("prepare: certificate of {name}"), &job.ctx.env, |change| {
        identity::put_authorities(change, &above)?;
        fit.put(change, None, None)
    })?;
    steps.push(Step::new(Does::GetCertificate, name));
    Ok(())
}

/// App ids, capabilities and devices, as far as the portal does not have them.
fn register(job: &Job<'_>, cabinet: &Cabinet<'_>, steps: &mut Vec<Step>) -> Result<(), PrepareError> {
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
        if matches!(job.destination, Destination::Development | Destination::Devices) {
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

/// A profile for every bundle id that lacks one.
fn get_profiles(job: &Job<'_>, cabinet: &mut Cabinet<'_>, steps: &mut Vec<Step>) -> Result<(), PrepareError> {
    let inventory = cabinet.inventory()?;
    let wanted: Vec<(NewProfile, String)> = job.look(&inventory, |setup| {
        let Some(serial) = setup.taken().and_then(|taken| taken.certificate).map(|own| own.serial.clone())
        else {
            return Vec::new();
        };
        let devices: Vec<String> = match job.destination {
            Destination::Development | Destination::Devices => {
                device::all(&inventory).into_iter().map(|(_, facts)| facts.identifier.clone()).collect()
            }
            _ => Vec::new(),
        };
        let parts = setup.parts.iter().filter(|part| is_wanted(setup, part));
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
    for (new, call) in wanted {
        let made = with(job, cabinet, |portal| Ok(portal.new_profile(&new, &call)?))?;
        let inventory = cabinet.inventory()?;
        let pool = job.pool(&inventory);
        let measure =
            Measure { project: Some(job.project()), roots: &job.roots, pool: &pool, now: job.ctx.env.now };
        let named = PathBuf::from(format!("the profile \"{}\" from the portal", new.title));
        let fit = ProfileFit::read(&named, from_base64(&made.file)?, &measure)?;
        let what = format!("prepare: profile {}", new.title);
        cabinet.change(&what, &job.ctx.env, |change| fit.put(change, None, &job.roots))?;
        steps.push(Step::new(Does::GetProfile, new.title).with(new.bundle_id));
    }
    Ok(())
}
