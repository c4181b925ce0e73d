//! `prepare`: makes or renews whatever an app lacks for a destination, after saying what.
//!
//! Each step is a change of its own, and what was done is seen by the next call: it goes on from there. What a portal is asked
//! for is asked under a name that follows from what is asked, so that nothing is issued twice.

pub(crate) mod by_hand;
pub(crate) mod by_portal;

use std::cell::Cell;

use jiff::{SignedDuration, Timestamp};
use ninekeys_cabinet::{Cabinet, CabinetError, NewItem};
use ninekeys_core::certificate::{CertificateError, Subject};
use ninekeys_core::chain::{Chain, End};
use ninekeys_core::digest::{from_hex, hex};
use ninekeys_core::ios::setup::{IdentityChoice, Part, Roster, Setup, Wanted, signs_for};
use ninekeys_core::keys::{Algorithm, KeyError, PrivateKey, Signer};
use ninekeys_core::model::{
    ApiUse, App, Destination, Facts, IdentityFacts, IdentityPurpose, Inventory, Ios, KeyFacts, NineKey,
    Project, State,
};
use ninekeys_core::request as pkcs10;
use ninekeys_core::revocation::Revocations;
use ninekeys_core::rules::check_setup;
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::client::PortalError;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::device;
use crate::files::FileError;
use crate::identity::accept::UnfitError;
use crate::identity::{self, CertificatesError};
use crate::outputs::OutputError;
use crate::portal::{self, ConnectError};
use crate::profile::import::ProfileImportError;
use crate::project::{ProjectError, ProjectFile};
use crate::revocation;

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
    /// The certificates above an identity's are taken in.
    GetChain,
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

impl PrepareError {
    /// The same, with what was done before it.
    pub(crate) fn after(self, done: Vec<Step>) -> Self {
        if done.is_empty() { self } else { PrepareError::HalfWay { done, cause: Box::new(self) } }
    }

    /// What was done before it, in a sentence.
    pub fn done(&self) -> Option<String> {
        let PrepareError::HalfWay { done, .. } = self else { return None };
        let words: Vec<String> = done.iter().map(Step::sentence).collect();
        Some(format!("done so far: {}; the next call goes on from there", words.join(", ")))
    }
}

/// What is prepared, and for what.
pub(crate) struct Job<'a> {
    pub(crate) ctx: &'a Ctx<'a>,
    pub(crate) file: &'a ProjectFile,
    pub(crate) name: &'a str,
    pub(crate) app: &'a App,
    pub(crate) ios: &'a Ios,
    pub(crate) destination: Destination,
    pub(crate) roots: Vec<Certificate>,
    /// What was learnt of certificates when the work began.
    pub(crate) revocations: Revocations,
    /// What the time is: what the portal issues begins by the portal's clock.
    pub(crate) now: Cell<Timestamp>,
}

/// By how much a portal's clock may be ahead of this machine's.
const AHEAD: SignedDuration = SignedDuration::from_mins(10);

impl<'a> Job<'a> {
    /// Gets ready: reads what the project trusts, and asks whether certificates were revoked.
    pub(crate) fn begin(
        ctx: &'a Ctx<'a>,
        file: &'a ProjectFile,
        (name, app, ios): (&'a str, &'a App, &'a Ios),
        destination: Destination,
        inventory: &Inventory,
    ) -> Result<Self, PrepareError> {
        let roots = identity::roots(Some(file))?;
        let mut pool = identity::authorities(inventory);
        pool.extend(roots.iter().cloned());
        let roster = Roster::of(inventory);
        let revocations = revocation::learn(ctx, file, inventory, &roster, &roots, &pool)?;
        Ok(Job { ctx, file, name, app, ios, destination, roots, revocations, now: Cell::new(ctx.env.now) })
    }

    /// Takes up what was issued now: by the portal's clock it begins now, and that is not yet by ours, which may be behind it and
    /// was read when the work began.
    fn saw(&self, begins: Timestamp) {
        let ahead = begins.duration_since(self.ctx.env.now);
        if begins > self.now.get() && ahead <= AHEAD {
            self.now.set(begins);
        }
    }

    pub(crate) fn project(&self) -> &'a Project {
        &self.file.project
    }

    fn pool(&self, inventory: &Inventory) -> Vec<Certificate> {
        let mut pool = identity::authorities(inventory);
        pool.extend(self.roots.iter().cloned());
        pool
    }

    /// Looks at what there is, and lends it to some work.
    pub(crate) fn look<R>(&self, inventory: &Inventory, work: impl FnOnce(&Setup<'_>) -> R) -> R {
        let pool = self.pool(inventory);
        work(&Setup::of(Wanted {
            app: self.name,
            title: &self.app.title,
            ios: self.ios,
            destination: self.destination,
            team: self.project().team_of(self.ios),
            policy: &self.project().policy,
            inventory,
            roster: &Roster::of(inventory),
            roots: &self.roots,
            pool: &pool,
            revocations: &self.revocations,
            now: self.now.get(),
        }))
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

/// An identity that has to be had: for what, and under which name.
pub(crate) struct Asked {
    /// What it is called, or will be.
    pub(crate) name: String,
    /// What it is for.
    pub(crate) purpose: IdentityPurpose,
    /// The apps that it is for by name: a push identity is for one.
    pub(crate) apps: Vec<String>,
    /// Its request (PKCS#10, DER), where it was made before and waits for its certificate.
    pub(crate) request: Option<Vec<u8>>,
}

impl Asked {
    /// The identity that signs, where none does that is good for long enough.
    fn to_sign(job: &Job<'_>, inventory: &Inventory) -> Option<Asked> {
        let has =
            job.look(inventory, |setup| setup.taken().is_some_and(|identity| !ends_soon(setup, identity)));
        if has {
            return None;
        }
        let (purpose, word) = match signs_for(job.destination) {
            NineKey::Development => (IdentityPurpose::Development, "development"),
            _ => (IdentityPurpose::Distribution, "distribution"),
        };
        Some(Asked::of(inventory, purpose, Vec::new(), || format!("{word}-{}", job.year(1))))
    }

    /// The identity that sends notifications, where the app takes some and nothing sends them.
    fn to_send(job: &Job<'_>, inventory: &Inventory) -> Option<Asked> {
        let servers = job.look(inventory, |setup| {
            let sends = |choice: &IdentityChoice<'_>| {
                choice.reaches(setup.servers()) && choice.sends() && !ends_soon(setup, choice)
            };
            (setup.has_push() && !setup.push.iter().any(sends)).then(|| setup.servers())
        })?;
        let name = || format!("{}-push-{}", job.name, job.year(1));
        Some(Asked::of(inventory, IdentityPurpose::Push(servers), vec![job.name.to_owned()], name))
    }

    /// With the request that waits, or under a name that nothing has.
    fn of(
        inventory: &Inventory,
        purpose: IdentityPurpose,
        apps: Vec<String>,
        usual: impl FnOnce() -> String,
    ) -> Asked {
        let waiting = identity::all(inventory).into_iter().find_map(|(item, facts)| {
            let waits = item.state == State::Active
                && facts.purpose == purpose
                && facts.certificate.is_none()
                && facts.key.is_some()
                && (apps.is_empty() || facts.apps == apps);
            let request = facts.request.as_deref().filter(|_| waits).and_then(from_hex)?;
            Some((item.name.clone(), request))
        });
        match waiting {
            Some((name, request)) => Asked { name, purpose, apps, request: Some(request) },
            None => {
                let name = identity::free_name(inventory, &usual());
                Asked { name, purpose, apps, request: None }
            }
        }
    }

    /// What is done to have it.
    fn steps(&self) -> impl Iterator<Item = Step> + '_ {
        let key = self.request.is_none().then(|| Step::new(Does::MakeKey, self.name.clone()));
        key.into_iter().chain([Step::new(Does::GetCertificate, self.name.clone())])
    }
}

/// Whether the profile of a part has to be made: none fits, or the one that does leaves out what there is now.
pub(crate) fn is_wanted(setup: &Setup<'_>, part: &Part<'_>) -> bool {
    let Some(taken) = part.taken() else { return true };
    let inventory = setup.wanted.inventory;
    let facts = taken.facts;
    let left_out = setup.wanted.destination.has_devices()
        && setup.wanted.roster.left_out(inventory, facts).next().is_some();
    let too_old = part.extension.is_none()
        && setup
            .wanted
            .ios
            .capabilities
            .iter()
            .any(|one| !facts.entitlements.contains_key(one.entitlement()));
    let due = SignedDuration::from_hours(24 * i64::from(setup.wanted.policy.due_days));
    let ends_soon = facts.not_after.duration_since(setup.wanted.now) < due;
    let other_identity =
        setup.taken().is_some_and(|identity| !ninekeys_core::ios::setup::allows(inventory, facts, identity));
    left_out || too_old || ends_soon || other_identity
}

/// Whether the identity that is taken ends within the policy's days: then its successor is made.
fn ends_soon(setup: &Setup<'_>, identity: &IdentityChoice<'_>) -> bool {
    let due = SignedDuration::from_hours(24 * i64::from(setup.wanted.policy.due_days));
    identity.certificate.is_none_or(|own| own.not_after.duration_since(setup.wanted.now) < due)
}

/// The identity that is taken, and the issuer whose certificate its chain lacks.
fn lacks_link(setup: &Setup<'_>) -> Option<(String, String)> {
    match (setup.taken(), &setup.chain) {
        (Some(taken), Some(Chain { end: End::Lacks { issuer, .. }, .. })) => {
            Some((taken.item.name.clone(), issuer.clone()))
        }
        _ => None,
    }
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
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let job = Job::begin(ctx, &file, (name, app, ios), destination, &inventory)?;
    let by_portal = portal::can_ask(&file.project, &inventory, ApiUse::Signing, Some(name));
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
        by_hand::by_hand(&job, &mut cabinet, &mut report)?;
        return Ok(report);
    }
    agree(ctx, request, &report)?;
    ctx.unlock(&mut cabinet)?;
    let mut steps = Vec::new();
    // before a key is made for what nobody would issue
    by_portal::with(&job, &cabinet, |portal| Ok(portal.team()?))?;
    if let Err(cause) = by_portal::by_the_portal(&job, &mut cabinet, &mut steps) {
        return Err(cause.after(steps));
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
            Does::GetChain => format!("take in the certificates above that of {name}"),
            Does::RegisterAppId => format!("register the bundle id {name}, which is for ever"),
            Does::SwitchOn => format!("switch on for {name}{detail}"),
            Does::RegisterDevice => format!("register the device {name}{detail}"),
            Does::GetProfile => format!("have the profile \"{name}\" made{detail}"),
        }
    }
}

/// What would be done, as far as the cabinet knows: what is at the portal already is seen when it is asked.
fn plan(job: &Job<'_>, inventory: &Inventory) -> Result<Vec<Step>, PrepareError> {
    if job.destination.has_devices() && device::all(inventory).is_empty() {
        return Err(PrepareError::NoDevices(job.destination));
    }
    let to_sign = Asked::to_sign(job, inventory);
    let to_send = Asked::to_send(job, inventory);
    Ok(job.look(inventory, |setup| {
        let mut steps: Vec<Step> = to_sign.iter().flat_map(Asked::steps).collect();
        if let (true, Some((name, _))) = (steps.is_empty(), lacks_link(setup)) {
            steps.push(Step::new(Does::GetChain, name));
        }
        steps.extend(to_send.iter().flat_map(Asked::steps));
        for part in setup.parts.iter().filter(|part| to_sign.is_some() || is_wanted(setup, part)) {
            let detail = format!("{} for {}", part.bundle_id, job.destination.phrase());
            steps.push(Step::new(Does::GetProfile, job.profile_title(part)).with(detail));
        }
        steps
    }))
}

/// The request for an identity: the one that was made before, or a new one, its key sealed in the same change.
pub(crate) fn request_for(
    job: &Job<'_>,
    cabinet: &mut Cabinet<'_>,
    asked: &Asked,
) -> Result<Vec<u8>, PrepareError> {
    let (ctx, name) = (job.ctx, &asked.name);
    if let Some(request) = &asked.request {
        return Ok(request.clone());
    }
    let secret = ctx.env.keys.make(Algorithm::Rsa2048)?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    let title = job.project().title.trim();
    let subject = Subject {
        common_name: Some(if title.is_empty() { name.clone() } else { title.to_owned() }),
        email: job.project().email_for(&[job.name.to_owned()]).map(str::to_owned),
        ..Subject::default()
    };
    let der = pkcs10::make(&key, &subject)?;
    cabinet.change(&format!("prepare: key of {name}"), &ctx.env, |change| {
        let facts = KeyFacts {
            algorithm: key.public().shape().to_string(),
            public_key: hex(key.public().as_der()),
            fingerprint: key.public().fingerprint(),
        };
        let key = change.put(NewItem::new(format!("{name}/key"), Facts::Key(facts), Some(secret)))?;
        let facts = IdentityFacts {
            purpose: asked.purpose,
            key: Some(key),
            certificate: None,
            team: None,
            apps: asked.apps.clone(),
            request: Some(hex(&der)),
            held_by: None,
            revoked: None,
        };
        change.put(NewItem::new(name.as_str(), Facts::Identity(Box::new(facts)), None))?;
        Ok::<_, CabinetError>(())
    })?;
    Ok(der)
}
