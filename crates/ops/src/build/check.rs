//! `check`: everything that can be wrong with a build, before the store says so.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use jiff::Timestamp;
use ninekeys_core::android::{AndroidBuild, PackageKind, Scheme, SchemeState, Signatures};
use ninekeys_core::build::{Build, ExamineError, Form, Says};
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::ios::look::IosLook;
use ninekeys_core::model::{
    App, BuildNumber, Destination, Facts, Inventory, Item, ItemId, Name, OldKeyMay, Platform, Policy,
    Project, ReleaseFacts, Role, replaced,
};
use ninekeys_core::rules::{BuildLook, KnownSigner, Part, check_build, file_stem};
use ninekeys_core::stream::DigestError;
use ninekeys_formats::idsig::ENDING;
use ninekeys_formats::manifest::Manifest;
use ninekeys_formats::zip::ZipError;
use ninekeys_portal::client::PortalError;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::advice::{self, Named};
use crate::answers::{BuildSaid, CertificateSaid, KeySaid, Verdict};
use crate::build::background::Background;
use crate::build::input::Input;
use crate::build::ios::IosLines;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError};
use crate::identity::{self, CertificatesError};
use crate::portal::ConnectError;
use crate::project::ProjectError;

/// The most of a file of scheme v4: the tree over 4 GiB, and room to spare.
pub(crate) const MOST_IDSIG: u64 = 48 << 20;

/// The build to be checked.
#[derive(Debug)]
pub struct Request {
    /// The file.
    pub build: PathBuf,
    /// Where it goes.
    pub destination: Option<Destination>,
    /// The app it has to be; found by its id when nothing is said.
    pub app: Option<String>,
    /// A number that it has to be above.
    pub above: Option<BuildNumber>,
    /// A device that it has to run on, by its name in the cabinet or by its identifier.
    pub device: Option<String>,
    /// Whether the store is asked, too, what it has of the app.
    pub ask_store: bool,
}

/// What was found.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CheckReport {
    /// Whether nothing speaks against the build.
    pub ready: bool,
    /// The file's name.
    pub file: String,
    /// Its size in bytes.
    pub size: u64,
    /// Its platform.
    pub platform: Platform,
    /// What kind of file it is.
    pub form: Form,
    /// Where it goes, if that is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub destination: Option<Destination>,
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The app's name, if the project file has it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub app: Option<String>,
    /// What people call the app.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// What it says of itself, if that can be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub says: Option<BuildSaid>,
    /// What only an Android build has.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub android: Option<AndroidLines>,
    /// What only a build for iOS has.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ios: Option<IosLines>,
    /// Who signed it.
    pub signers: Vec<SignerLine>,
    /// The findings and how many rules looked.
    pub verdict: Verdict,
    /// What it could not be compared with, and why.
    pub not_compared: Vec<String>,
    /// The last release it was compared with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last_release: Option<ReleaseFacts>,
    /// The time of the check.
    pub at: Timestamp,
}

/// What only an Android build has.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct AndroidLines {
    /// What its manifest says, if it can be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub manifest: Option<Manifest>,
    /// The schemes that are present, and whether each was verified.
    pub schemes: Vec<SchemeLine>,
    /// The proof that keys handed over to each other, oldest first; nothing where there was no rotation.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub lineage: Vec<LineageLine>,
}

/// A key of a proof of rotation, for people.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct LineageLine {
    /// Its certificate's subject, RFC 4514.
    pub subject: String,
    /// SHA-256 of its certificate.
    pub certificate: String,
    /// SHA-256 of its public key.
    pub key: String,
    /// What it may still do on devices; of the last one nothing is said yet.
    pub may: Vec<OldKeyMay>,
}

impl AndroidLines {
    pub(crate) fn of(android: &AndroidBuild) -> Self {
        let schemes = android.signatures.schemes.iter().map(|report| SchemeLine {
            scheme: report.scheme,
            verified: report.state == SchemeState::Verified,
        });
        let lineage = android.signatures.lineage.iter().map(|key| LineageLine {
            subject: key.subject.clone(),
            certificate: key.certificate_fingerprint.clone(),
            key: key.key_fingerprint.clone(),
            may: OldKeyMay::of_flags(key.flags),
        });
        AndroidLines {
            manifest: android.manifest().cloned(),
            schemes: schemes.collect(),
            lineage: lineage.collect(),
        }
    }
}

/// A signer, for people.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct SignerLine {
    /// The schemes it signed, on Android.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub schemes: Vec<Scheme>,
    /// The item in the cabinet that holds key and certificate, if one does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// What in the cabinet holds the key under another certificate, where none holds both.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub same_key_as: Option<String>,
    /// Its certificate.
    pub certificate: CertificateSaid,
    /// Its key.
    pub key: KeySaid,
}

/// A scheme, for people.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct SchemeLine {
    /// Which.
    pub scheme: Scheme,
    /// Whether every signature and digest in it is good.
    pub verified: bool,
}

/// Why it was not checked.
#[derive(Debug, Error)]
pub enum CheckError {
    /// The file.
    #[error(transparent)]
    File(#[from] FileError),
    /// It does not open as an archive.
    #[error(transparent)]
    Zip(#[from] ZipError),
    /// Reading it failed, or the user stopped.
    #[error(transparent)]
    Digest(#[from] DigestError),
    /// A file in the app's folder cannot be read.
    #[error("{path} could not be read")]
    Inside {
        /// Which.
        path: String,
        /// What the system said.
        #[source]
        cause: std::io::Error,
    },
    /// The project's roots.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// What the project pins.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The store did not answer.
    #[error(transparent)]
    Store(#[from] PortalError),
    /// The project file has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// Neither a device of the cabinet nor an identifier of one.
    #[error("there is no device called {0}, and it is no identifier of one")]
    UnknownDevice(String),
    /// The cabinet is there and cannot be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
}

impl From<ExamineError> for CheckError {
    fn from(error: ExamineError) -> Self {
        match error {
            ExamineError::Zip(error) => error.into(),
            ExamineError::Digest(error) => error.into(),
            ExamineError::Inside { path, cause } => CheckError::Inside { path, cause },
        }
    }
}

/// What came of one build among several.
pub struct Checked {
    /// The build, as it was named.
    pub build: PathBuf,
    /// The report, or why there is none.
    pub outcome: Result<CheckReport, CheckError>,
    /// How long it took to read it and to verify its signatures.
    pub took: Duration,
}

/// Checks builds, several at once on all cores; the answers come in the order of the requests.
///
/// # Errors
/// [`CheckError`] when project file or cabinet cannot be read. What is wrong with one build stops no other.
pub fn check(ctx: &Ctx<'_>, requests: &[Request]) -> Result<Vec<Checked>, CheckError> {
    let places: Vec<PathBuf> = requests.iter().map(|request| ctx.path(&request.build)).collect();
    let background = match Background::read(ctx) {
        Ok(background) => background,
        Err(error) => {
            // a file that cannot be read is said before anything about the cabinet
            if let [only] = places.as_slice() {
                Input::open(only)?;
            }
            return Err(error);
        }
    };
    // one bar cannot show several builds
    let env = if requests.len() > 1 { Env { progress: &Silent, ..ctx.env } } else { ctx.env };
    // not by the pool that hashes: a thread that waits in there would begin build after build, and hold them all
    let running = ctx.running;
    let next = AtomicUsize::new(0);
    let work = || {
        let mut done = Vec::new();
        loop {
            let index = next.fetch_add(1, Ordering::Relaxed);
            let Some(path) = places.get(index) else { return done };
            let begun = running();
            let build = examine_file(&env, path);
            done.push((index, build, running().saturating_sub(begun)));
        }
    };
    let threads = std::thread::available_parallelism().map_or(1, usize::from).min(requests.len());
    let mut done: Vec<(usize, Result<Build, CheckError>, Duration)> = std::thread::scope(|scope| {
        let running: Vec<_> = (1..threads).map(|_| scope.spawn(work)).collect();
        let mut done = work();
        for thread in running {
            done.extend(thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        }
        done
    });
    done.sort_by_key(|(index, ..)| *index);
    let any_ios = done.iter().any(|(_, build, _)| build.as_ref().is_ok_and(|build| build.ios().is_some()));
    let builds = done.iter().filter_map(|(_, build, _)| build.as_ref().ok());
    let background =
        if any_ios { background.with_roots(ctx)?.with_revocations(ctx, builds)? } else { background };
    let builds = done.iter().filter_map(|(_, build, _)| build.as_ref().ok());
    let asks = requests.iter().any(|request| request.ask_store);
    let background = if asks { background.with_store(ctx, builds)? } else { background };
    // what is a part of what is known when all of them were read
    let parts: Vec<Option<Part>> = done
        .iter()
        .zip(&places)
        .map(|((_, build, _), path)| part(build.as_ref().ok()?, &file_name(path)))
        .collect();
    let mut checked = Vec::new();
    for (((index, build, took), request), path) in done.into_iter().zip(requests).zip(&places) {
        let others = parts.iter().enumerate().filter(|(other, _)| *other != index);
        let others: Vec<Part> = others.filter_map(|(_, part)| part.clone()).collect();
        let judged = |build: Build| {
            let destination = ctx.destination(request.destination)?;
            // what the store says is about what goes there
            let destination = destination.or(request.ask_store.then_some(Destination::Store));
            judge_file(&env, path, (request, destination), &background, &build, &others)
        };
        let outcome = build.and_then(judged);
        checked.push(Checked { build: request.build.clone(), outcome, took });
    }
    Ok(checked)
}

fn examine_file(env: &Env<'_>, path: &Path) -> Result<Build, CheckError> {
    Input::open(path)?.examine(idsig_beside(path)?.as_deref(), env)
}

fn judge_file(
    env: &Env<'_>,
    path: &Path,
    (request, destination): (&Request, Option<Destination>),
    background: &Background,
    build: &Build,
    parts: &[Part],
) -> Result<CheckReport, CheckError> {
    let project = background.project.as_ref();
    let named = match &request.app {
        Some(wanted) => {
            let found = project.and_then(|project| project.app(wanted));
            Some(found.ok_or_else(|| CheckError::UnknownApp(wanted.clone()))?)
        }
        None => None,
    };
    let device = request
        .device
        .as_deref()
        .map(|wanted| background.device(wanted).ok_or_else(|| CheckError::UnknownDevice(wanted.to_owned())));
    let device = device.transpose()?;
    let subject = BuildSubject {
        file: file_name(path),
        path: request.build.display().to_string(),
        destination,
        app: named,
        above: request.above.clone(),
        device,
        superseded: None,
        parts,
    };
    Ok(judge(env, background, &subject, build))
}

/// The file of scheme v4 beside a package, if there is one.
fn idsig_beside(path: &Path) -> Result<Option<Vec<u8>>, FileError> {
    let mut name = path.as_os_str().to_owned();
    name.push(".");
    name.push(ENDING);
    let beside = PathBuf::from(name);
    if beside.is_file() { files::read_whole(&beside, MOST_IDSIG).map(Some) } else { Ok(None) }
}

/// A build that is checked, and what is known of it beforehand.
pub(crate) struct BuildSubject<'a> {
    pub(crate) file: String,
    pub(crate) path: String,
    pub(crate) destination: Option<Destination>,
    pub(crate) app: Option<(&'a str, &'a App)>,
    pub(crate) above: Option<BuildNumber>,
    /// A device that it has to run on, by its identifier.
    pub(crate) device: Option<String>,
    /// A release that this build takes the place of: its file name.
    pub(crate) superseded: Option<&'a str>,
    /// The builds that are looked at together with it.
    pub(crate) parts: &'a [Part],
}

/// What others have to know of a build to be parts of one package with it.
fn part(build: &Build, file: &str) -> Option<Part> {
    let says = build.says.as_ref()?;
    let mut certificates: Vec<String> =
        build.signers.iter().map(|signer| signer.certificate_fingerprint.clone()).collect();
    certificates.sort();
    Some(Part {
        file: file.into(),
        id: says.id.clone(),
        part: says.part.clone(),
        number: says.number(),
        certificates,
    })
}

/// Looks at a build, whose bytes may not bear their name yet, with every rule; `sign` proves its output with this.
pub(crate) fn judge(
    env: &Env<'_>,
    background: &Background,
    subject: &BuildSubject<'_>,
    build: &Build,
) -> CheckReport {
    let says = build.says.as_ref();
    let releases = background.inventory.as_deref().map(Inventory::releases).unwrap_or_default();
    let released = released_for(&releases, build, &subject.file);
    let elsewhere = at_its_store(background, subject, released.and_then(|(_, store)| store));
    let project = elsewhere.as_ref().or(background.project.as_ref());
    let store = project.and_then(|project| project.at_store.as_ref()).map(Name::as_str);
    let by_id = || says.and_then(|says| project?.app_of(build.platform, &says.id));
    // the same app as it is at that store
    let named = subject.app.and_then(|(name, _)| project?.apps.get_key_value(name));
    let app = named.map(|(name, app)| (name.as_str(), app)).or(subject.app).or_else(by_id);
    let default_policy = Policy::default();
    let destination = subject
        .destination
        .or(released.map(|(destination, _)| destination))
        .or_else(|| only_destination_of(build.form))
        .or_else(|| only_destination(app, build.platform));
    let counting = in_force(&releases);
    let to = (destination, store);
    let last = last_release(&counting, app, build, to, subject.superseded);
    let highest_version = match build.platform {
        Platform::Ios => highest_version(&counting, build, to, subject.superseded),
        Platform::Android => None,
    };
    let known = known_signers(background.inventory.as_deref(), project, app.map(|(name, _)| name));
    let revoked = background.revoked();
    let ios = background.look_at_ios(env, build, app, subject.device.as_deref(), &revoked);
    let own: Vec<&ReleaseFacts> = releases.iter().copied().filter(|one| is_itself(one, build)).collect();
    let there = background.there(build, &own);
    let look = BuildLook {
        file: &subject.file,
        build,
        destination,
        store,
        app,
        policy: project.map_or(&default_policy, |project| &project.policy),
        last,
        highest_version,
        there: there.as_deref(),
        above: subject.above.as_ref(),
        parts: subject.parts,
        known_signers: &known,
        ios: ios.as_ref(),
        now: env.now,
    };
    let verdict = check_build(&look);
    let named = Named {
        path: &subject.path,
        app: subject.app.map(|(name, _)| name).filter(|_| by_id().is_none()),
        destination,
        store,
        output: &|to| Some(file_name_of(app?.0, says?, (to, store), build.form)),
    };
    let verdict = verdict.map(|mend| advice::for_build(mend, &named));
    Told { subject, background, app, to, last, ios: ios.as_ref() }.report(build, verdict, env.now)
}

/// The project as it is at the store that a build was signed for: what was signed for one of several is looked at as that one would,
/// unless somebody says where it goes.
fn at_its_store(
    background: &Background,
    subject: &BuildSubject<'_>,
    signed_for: Option<&str>,
) -> Option<Project> {
    let is_meant = subject.destination.is_none_or(|asked| asked == Destination::Store);
    let project = background.project.as_ref().filter(|project| is_meant && project.at_store.is_none());
    project?.at(signed_for?)
}

/// What a check tells beside its verdict.
struct Told<'a> {
    subject: &'a BuildSubject<'a>,
    background: &'a Background,
    app: Option<(&'a str, &'a App)>,
    to: (Option<Destination>, Option<&'a str>),
    last: Option<&'a ReleaseFacts>,
    ios: Option<&'a IosLook<'a>>,
}

impl Told<'_> {
    fn report(self, build: &Build, verdict: Verdict, now: Timestamp) -> CheckReport {
        let Told { subject, background, app, to: (destination, store), last, ios } = self;
        let inventory = background.inventory.as_deref();
        CheckReport {
            ready: verdict.is_ready(),
            file: subject.file.clone(),
            size: build.size,
            platform: build.platform,
            form: build.form,
            destination,
            store: store.filter(|_| destination == Some(Destination::Store)).map(str::to_owned),
            app: app.map(|(name, _)| name.to_owned()),
            title: app.map(|(_, app)| app.title.clone()),
            says: BuildSaid::of(build),
            android: build.android().map(AndroidLines::of),
            ios: ios.map(|ios| IosLines::of(ios, inventory)),
            signers: signer_lines(build, inventory),
            not_compared: not_compared(background, app, build.platform),
            last_release: last.cloned(),
            verdict,
            at: now,
        }
    }
}

/// The word for a destination, or the name of the store that is meant by it.
pub(crate) fn place_of(destination: Destination, store: Option<&str>) -> String {
    let store = store.filter(|_| destination == Destination::Store);
    store.map_or_else(|| destination.to_string(), str::to_owned)
}

/// What a signed build is called.
pub(crate) fn file_name_of(
    app: &str,
    says: &Says,
    (destination, store): (Destination, Option<&str>),
    form: Form,
) -> String {
    format!("{}.{}", file_stem(app, says, &place_of(destination, store)), form.ending())
}

/// The releases that no later one has taken the place of.
fn in_force<'a>(releases: &[&'a ReleaseFacts]) -> Vec<&'a ReleaseFacts> {
    let gone = replaced(releases);
    releases.iter().zip(gone).filter(|(_, gone)| !gone).map(|(release, _)| *release).collect()
}

/// Whether a release in the ledger is this very build: the same content under another key is another.
fn is_itself(release: &ReleaseFacts, build: &Build) -> bool {
    build.content.as_deref() == Some(release.content.as_str())
        && build.signers.iter().any(|signer| match release.signer_certificate.as_str() {
            "" => signer.key_fingerprint == release.signer,
            certificate => signer.certificate_fingerprint == certificate,
        })
}

/// Where this very build was signed for, if the ledger has it.
fn released_for<'a>(
    releases: &[&'a ReleaseFacts],
    build: &Build,
    file: &str,
) -> Option<(Destination, Option<&'a str>)> {
    let own = || releases.iter().rev().filter(|release| is_itself(release, build));
    let place = |release: &&'a ReleaseFacts| (release.destination, release.store.as_deref());
    if let Some(named) = own().find(|release| release.file == file) {
        return Some(place(named));
    }
    // the same bytes may have been signed for several places: then only who asks knows which is meant
    let first = own().next().map(place)?;
    own().all(|release| place(release) == first).then_some(first)
}

/// Where builds of a form go that can go only to one place: of a bundle a store alone makes anything.
pub(crate) fn only_destination_of(form: Form) -> Option<Destination> {
    match form {
        Form::Android(PackageKind::Bundle) => Some(Destination::Store),
        Form::Android(PackageKind::Apk) | Form::Ios(_) => None,
    }
}

/// The destination of an app that has only one.
fn only_destination(app: Option<(&str, &App)>, platform: Platform) -> Option<Destination> {
    match app?.1.side(platform)?.destinations {
        [only] => Some(*only),
        _ => None,
    }
}

/// The highest release of the same app to the same destination that is not this very build and not one that it
/// takes the place of. When the ledger has this build, only what was released before it counts. The package is
/// what makes it the same app: names are a project's own, and one cabinet serves many projects.
fn last_release<'a>(
    releases: &[&'a ReleaseFacts],
    app: Option<(&str, &App)>,
    build: &Build,
    (destination, store): (Option<Destination>, Option<&str>),
    superseded: Option<&str>,
) -> Option<&'a ReleaseFacts> {
    let says = build.says.as_ref();
    let of_app = |release: &&&ReleaseFacts| match says {
        Some(says) => release.id == says.id && release.platform == build.platform,
        None => app.is_some_and(|(name, _)| release.app == name),
    };
    // what was signed to be worked on is no release of anything
    let same_way = |release: &&&ReleaseFacts| match destination {
        Some(wanted) => release.destination == wanted && release.store.as_deref() == store,
        None => release.destination.leaves_the_house(),
    };
    // every part of a package has numbers of its own: all of one version have the same
    let part = says.and_then(|says| says.part.as_deref());
    let same_part = |release: &&&ReleaseFacts| release.split.as_deref() == part;
    // on iOS numbers begin anew with every version
    let same_version = |release: &&&ReleaseFacts| {
        build.platform == Platform::Android
            || says.is_some_and(|says| says.version.as_deref() == Some(release.version.as_str()))
    };
    let own = releases.iter().filter(of_app).filter(same_way).filter(same_part).filter(same_version);
    let own: Vec<&ReleaseFacts> = own.copied().collect();
    let itself = own.iter().position(|release| is_itself(release, build));
    let before = own.get(..itself.unwrap_or(own.len())).unwrap_or_default();
    let own_name = itself.and_then(|at| own.get(at)).map(|release| release.file.as_str());
    // a build that was signed again for the same place has taken the place of the first
    let counts = |release: &&&ReleaseFacts| {
        Some(release.file.as_str()) != superseded && Some(release.file.as_str()) != own_name
    };
    before.iter().filter(counts).max_by_key(|release| &release.number).copied()
}

/// The release of the same app to the same destination that has the highest version.
fn highest_version<'a>(
    releases: &[&'a ReleaseFacts],
    build: &Build,
    (destination, store): (Option<Destination>, Option<&str>),
    superseded: Option<&str>,
) -> Option<&'a ReleaseFacts> {
    let says = build.says.as_ref()?;
    let own = releases.iter().filter(|release| {
        release.id == says.id
            && release.platform == build.platform
            && destination.is_some_and(|wanted| release.destination == wanted)
            && release.store.as_deref() == store
            && Some(release.file.as_str()) != superseded
            && !is_itself(release, build)
    });
    let number = |release: &ReleaseFacts| release.version.parse::<BuildNumber>().ok();
    let numbered = own.filter_map(|release| Some((number(release)?, release.everyone.is_some(), *release)));
    // of those of one version, one that everyone has says more
    let key = |(version, everyone, _): &(BuildNumber, bool, &ReleaseFacts)| (version.clone(), *everyone);
    numbered.max_by_key(key).map(|(.., release)| release)
}

/// The keys of the cabinet that an app may be signed with, in each role that they have for it.
pub(crate) fn known_signers(
    inventory: Option<&Inventory>,
    project: Option<&Project>,
    app: Option<&str>,
) -> Vec<KnownSigner> {
    let (Some(inventory), Some(app)) = (inventory, app) else { return Vec::new() };
    let at_store = &project.map(|project| project.store_signers(app)).unwrap_or_default();
    let of = |role: Role| {
        let keys = inventory.android_keys(app, role);
        let signs_here =
            move |keystore: &Item| role == Role::Signing || !at_store.is_elsewhere(&keystore.name);
        keys.filter(move |(keystore, _)| signs_here(keystore)).filter_map(move |(keystore, entry)| {
            let key = crate::keystore::key_facts(inventory, entry)?.fingerprint.clone();
            let certificate = crate::keystore::certificate_of(inventory, entry)?.fingerprint.clone();
            // a device is never told that a signing key has another successor than its lineage says
            let replaces = if role == Role::Upload { taken_over(inventory, keystore) } else { Vec::new() };
            Some(KnownSigner { name: keystore.name.clone(), role, key, certificate, replaces })
        })
    };
    of(Role::Signing).chain(of(Role::Upload)).collect()
}

/// The certificates of the upload keys that a keystore's took the place of, the newest first.
fn taken_over(inventory: &Inventory, keystore: &Item) -> Vec<String> {
    let mut out = Vec::new();
    let mut seen = vec![keystore.id];
    let mut before = keystore.replaces;
    while let Some(item) = before.and_then(|id| inventory.get(&id)).filter(|item| !seen.contains(&item.id)) {
        if let Facts::Keystore(facts) = &item.facts {
            let upload = facts.entries.iter().filter(|entry| entry.role == Role::Upload);
            let known = upload.filter_map(|entry| crate::keystore::certificate_of(inventory, entry));
            out.extend(known.map(|certificate| certificate.fingerprint.clone()));
        }
        seen.push(item.id);
        before = item.replaces;
    }
    out
}

/// What holds a private key, and whether it does so under that certificate: under another it is another identity.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Holder {
    /// Key and certificate.
    Both(String),
    /// The key alone.
    Key(String),
}

impl Holder {
    /// Its name, where it holds both.
    pub(crate) fn of_both(&self) -> Option<String> {
        if let Holder::Both(name) = self { Some(name.clone()) } else { None }
    }

    /// Its name, where it holds the key alone.
    pub(crate) fn of_key(&self) -> Option<String> {
        if let Holder::Key(name) = self { Some(name.clone()) } else { None }
    }
}

/// Where the cabinet holds a private key, under that certificate if anywhere: in a keystore, an identity or an API key.
pub(crate) fn holder(inventory: &Inventory, key: &str, certificate: &str) -> Option<Holder> {
    let all = || inventory.iter().flat_map(|item| held_by(item).into_iter().map(move |held| (item, held)));
    let of_key =
        |id: &ItemId| identity::key_facts(inventory, id).is_some_and(|facts| facts.fingerprint == key);
    let of_certificate = |id: &ItemId| {
        identity::certificate_facts(inventory, id).is_some_and(|facts| facts.fingerprint == certificate)
    };
    let both = all().find(|(_, (key, own))| of_key(key) && own.is_some_and(of_certificate));
    let both = both.map(|(item, _)| Holder::Both(item.name.clone()));
    both.or_else(|| all().find(|(_, (key, _))| of_key(key)).map(|(item, _)| Holder::Key(item.name.clone())))
}

/// The private keys of an item, each with its certificate.
fn held_by(item: &Item) -> Vec<(&ItemId, Option<&ItemId>)> {
    match &item.facts {
        Facts::Keystore(facts) => {
            facts.entries.iter().map(|entry| (&entry.key, Some(&entry.certificate))).collect()
        }
        Facts::Identity(facts) => facts.key.iter().map(|key| (key, facts.certificate.as_ref())).collect(),
        Facts::ApiKey(facts) => facts.key.iter().map(|key| (key, None)).collect(),
        _ => Vec::new(),
    }
}

/// The signers, on Android each with the schemes it signed.
pub(crate) fn signer_lines(build: &Build, inventory: Option<&Inventory>) -> Vec<SignerLine> {
    let signatures = build.android().map(|android| &android.signatures);
    let schemes_of = |certificate: &str| -> Vec<Scheme> {
        let all = signatures.into_iter().flat_map(|signatures: &Signatures| &signatures.signers);
        all.filter(|signer| signer.certificate_fingerprint == certificate)
            .map(|signer| signer.scheme)
            .collect()
    };
    let line = |signer: &ninekeys_core::build::SignedBy| {
        let (key, certificate) = (&signer.key_fingerprint, &signer.certificate_fingerprint);
        let holder = inventory.and_then(|inventory| holder(inventory, key, certificate));
        SignerLine {
            schemes: schemes_of(certificate),
            item: holder.as_ref().and_then(Holder::of_both),
            same_key_as: holder.as_ref().and_then(Holder::of_key),
            certificate: CertificateSaid::from(&signer.certificate),
            key: KeySaid::from(signer),
        }
    };
    build.signers.iter().map(line).collect()
}

fn not_compared(background: &Background, app: Option<(&str, &App)>, platform: Platform) -> Vec<String> {
    let mut out = Vec::new();
    let id = platform.id_word();
    match (&background.project, app) {
        (None, _) => out.push(format!("{id} and version: there is no project file")),
        (Some(_), None) => {
            out.push(format!("{id} and version: the project file has no app with this {id}"));
        }
        _ => {}
    }
    if background.inventory.is_none() {
        out.push(format!("signer and {}: there is no cabinet", platform.number_word()));
    }
    out
}

/// A file's name, without its folder.
pub(crate) fn file_name(path: &Path) -> String {
    path.file_name().map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned())
}
