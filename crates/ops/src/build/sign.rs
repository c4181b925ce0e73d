//! `sign`: a build, signed for its destination, proved, named and written into the ledger.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ninekeys_cabinet::{Cabinet, CabinetError, NewItem};
use ninekeys_core::android::{
    Allowed, Identity, LaidOut, Opened, PackageKind, Scheme, SchemeReport, SchemeState, Schemes,
    SignError as CoreError, Signatures, Signed, Signing as PackageSigning, check_idsig, make_idsig,
};
use ninekeys_core::digest::{DigestError, Sink, sha256_hex, source_sha256};
use ninekeys_core::findings::Level;
use ninekeys_core::keys::{PrivateKey, Signer};
use ninekeys_core::model::{
    App, Destination, Facts, Inventory, Item, KeystoreEntry, Project, ReleaseFacts, replaced,
};
use ninekeys_core::rules::{Part, file_stem, lacks_parts};
use ninekeys_formats::idsig;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::Manifest;
use serde::Serialize;
use thiserror::Error;

use crate::build::check::{self, Background, BuildSubject, CheckError, CheckReport, CheckedSource};
use crate::build::material::{self, SignerError};
use crate::ctx::{Ctx, Notice, OpenError};
use crate::files::{self, Access, FileError, InputFile, NewFolders, OutputFile, Taken};
use crate::outgoing::{self, Outgoing};
use crate::outputs::{self, Ours, OutputError};
use crate::project::ProjectError;

/// The builds to be signed.
#[derive(Debug)]
pub struct Request {
    /// The files.
    pub builds: Vec<PathBuf>,
    /// The app it is; found by its package when nothing is said.
    pub app: Option<String>,
    /// Where it goes; the app's first destination when nothing is said.
    pub destination: Option<Destination>,
    /// The keystore to sign with; found by app and destination when nothing is said.
    pub key: Option<String>,
    /// The folder that the output goes to.
    pub to: PathBuf,
    /// Whether an output of the same name is replaced.
    pub replace: bool,
    /// The schemes, when they are not chosen by the build's devices.
    pub schemes: Option<Schemes>,
    /// Whether the file of scheme v4 is made beside the output.
    pub idsig: bool,
}

/// What was signed.
#[derive(Debug, Serialize)]
pub struct SignReport {
    /// The output, as the user would write its path.
    pub output: String,
    /// Its size in bytes.
    pub size: u64,
    /// The app's title.
    pub app: String,
    /// Where it goes.
    pub destination: Destination,
    /// The keystore it was signed with.
    pub keystore: String,
    /// The key's alias in it.
    pub alias: String,
    /// SHA-256 of the signer's public key.
    pub key_fingerprint: String,
    /// SHA-256 over the output.
    pub sha256: String,
    /// The file of scheme v4 beside it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub idsig: Option<String>,
    /// The signature schemes.
    pub schemes: Vec<String>,
    /// Whether an earlier signature was dropped.
    pub was_signed: bool,
    /// How many stored entries were moved to their alignment.
    pub realigned: usize,
    /// What the check of the output said.
    pub check: CheckReport,
}

/// Why it was not signed.
#[derive(Debug, Error)]
pub enum SignError {
    /// The core refused, or could not read the build.
    #[error(transparent)]
    Core(#[from] CoreError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// No app of that name.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// No app with the build's package.
    #[error("the project file has no app with the package {0}")]
    UnknownPackage(String),
    /// The app goes nowhere.
    #[error("the project file names no destination for {0}")]
    NoDestination(String),
    /// A destination that an Android build does not have.
    #[error("an Android build is signed for development, direct or store, not for {0}")]
    Destination(Destination),
    /// The key to sign with.
    #[error(transparent)]
    Signer(#[from] SignerError),
    /// A part of a package, without the others.
    #[error("{0}")]
    Incomplete(String),
    /// One of several builds.
    #[error("{0}: {1}")]
    Of(String, #[source] Box<SignError>),
    /// Some of several builds have their names, and the next one could not get its own.
    #[error("{cause}")]
    Partly {
        /// The outputs that are there.
        done: Vec<String>,
        /// Why no more.
        #[source]
        cause: Box<SignError>,
    },
    /// The output has its name taken.
    #[error("{0} exists already")]
    Exists(String),
    /// The output would fall on something of ours.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The input would be overwritten.
    #[error("the output would take the place of the build itself")]
    OverInput,
    /// The file of scheme v4 does not hold.
    #[error("the file of scheme v4 does not hold")]
    Idsig,
    /// The output could not be checked.
    #[error("the signed output could not be checked: {0}")]
    Check(#[source] Box<CheckError>),
    /// The output has findings of level error.
    #[error("the signed output is not ready: {}", errors(.0))]
    NotReady(Box<CheckReport>),
}

fn errors(report: &CheckReport) -> String {
    let errors = report.verdict.findings.iter().filter(|finding| finding.level == Level::Error);
    let texts: Vec<String> = errors.map(|finding| format!("{} ({})", finding.text, finding.rule)).collect();
    texts.join("; ")
}

/// What is to be made, and where.
struct Plan<'p> {
    /// The build, as it was named.
    build: &'p Path,
    app: (&'p str, &'p App),
    destination: Destination,
    manifest: Manifest,
    was_signed: bool,
    file: String,
    target: PathBuf,
    /// The file of scheme v4 and its place, where it is wanted.
    idsig: Option<(String, PathBuf)>,
}

impl Plan<'_> {
    /// What others have to know of its output to be parts of one package with it.
    fn part(&self, certificate: &[u8]) -> Part {
        Part {
            file: self.file.clone(),
            package: self.manifest.package.clone(),
            split: self.manifest.split.clone(),
            code: self.manifest.version_code,
            certificates: vec![sha256_hex(certificate)],
        }
    }
}

/// The key that signs a build.
struct Signing<'i> {
    keystore: &'i Item,
    entry: &'i KeystoreEntry,
    key: PrivateKey,
    certificate: Vec<u8>,
}

/// What was made, under temporary names.
struct Made {
    output: OutputFile,
    idsig: Option<(OutputFile, String)>,
    signed: Signed,
    proof: Proof,
    realigned: usize,
}

/// Signs, proves, names and records. Nothing gets a name before all builds are signed and proved; parts of one package are
/// proved together. The cabinet is unlocked before any long work.
///
/// # Errors
/// [`SignError`]; then no file bears an output's name that did not before, and the ledger is as it was, unless it is
/// [`SignError::Partly`].
pub fn sign(ctx: &Ctx<'_>, request: &Request) -> Result<Vec<SignReport>, SignError> {
    let several = request.builds.len() > 1;
    let of = move |build: &Path, error: SignError| match several {
        true => SignError::Of(build.display().to_string(), Box::new(error)),
        false => error,
    };
    let mut inputs = Vec::new();
    for build in &request.builds {
        let path = ctx.path(build);
        let input = InputFile::open(&path).map_err(|error| of(build, error.into()))?;
        inputs.push((build.as_path(), path, input));
    }
    let project = ctx.project_file()?.project;
    let mut plans = Vec::new();
    let mut all_allowed = Vec::new();
    for (build, _, input) in &inputs {
        let opened = Opened::open(input, &Limits::USUAL).map_err(|error| of(build, error.into()))?;
        let plan = plan(ctx, request, build, &project, &opened).map_err(|error| of(build, error))?;
        all_allowed.push(opened.allow(plan.destination).map_err(|error| of(build, error.into()))?);
        plans.push(plan);
    }
    refuse_parts_alone(&plans, of)?;
    let sources: Vec<&Path> = inputs.iter().map(|(_, path, _)| path.as_path()).collect();
    let targets: Vec<&Path> = plans
        .iter()
        .flat_map(|plan| {
            std::iter::once(plan.target.as_path()).chain(plan.idsig.iter().map(|(_, path)| path.as_path()))
        })
        .collect();
    refuse_targets(ctx, &sources, &targets, request.replace)?;

    let mut cabinet = ctx.open_unlocked()?;
    let inventory = cabinet.inventory()?;
    let mut keys = Vec::new();
    for plan in &plans {
        let chosen =
            signing(&cabinet, &inventory, plan, request).map_err(|error| of(plan.build, error.into()))?;
        keys.push(chosen);
    }
    let parts: Vec<Part> = plans.iter().zip(&keys).map(|(plan, key)| plan.part(&key.certificate)).collect();

    let folders = NewFolders::make(&ctx.path(&request.to))?;
    let background = Background { project: Some(project.clone()), inventory: Some(Arc::clone(&inventory)) };
    let mut ready = Vec::new();
    for (index, ((plan, key), allowed)) in plans.iter().zip(&keys).zip(all_allowed).enumerate() {
        let others = parts.iter().enumerate().filter(|(at, _)| *at != index);
        let beside =
            Beside { background: &background, parts: others.map(|(_, part)| part.clone()).collect() };
        let mut outgoing = Outgoing::begin(ctx, &cabinet)?;
        let made = make(ctx, request, plan, allowed, key, &beside, &mut outgoing);
        ready.push((outgoing, made.map_err(|error| of(plan.build, error))?));
    }
    let jobs = plans.iter().zip(&keys).zip(ready);
    let done = deliver_all(ctx, request, &mut cabinet, &inventory, jobs, of);
    // what has its name stays where it is
    if matches!(done, Ok(_) | Err(SignError::Partly { .. })) {
        folders.keep();
    }
    done
}

/// What a build is proved beside.
struct Beside<'a> {
    background: &'a Background,
    /// The other builds of the call.
    parts: Vec<Part>,
}

fn deliver_all<'j>(
    ctx: &Ctx<'_>,
    request: &Request,
    cabinet: &mut Cabinet<'_>,
    inventory: &Inventory,
    jobs: impl Iterator<Item = ((&'j Plan<'j>, &'j Signing<'j>), (Outgoing, Made))>,
    of: impl Fn(&Path, SignError) -> SignError,
) -> Result<Vec<SignReport>, SignError> {
    let mut reports: Vec<SignReport> = Vec::new();
    for ((plan, key), (outgoing, made)) in jobs {
        match deliver(ctx, request, cabinet, inventory, plan, key, made, outgoing) {
            Ok(report) => reports.push(report),
            Err(error) if reports.is_empty() => return Err(of(plan.build, error)),
            Err(error) => {
                let done = reports.into_iter().map(|report| report.output).collect();
                return Err(SignError::Partly { done, cause: Box::new(of(plan.build, error)) });
            }
        }
    }
    Ok(reports)
}

/// A part of a package runs nowhere without the others: it is signed with them.
fn refuse_parts_alone(
    plans: &[Plan<'_>],
    of: impl Fn(&Path, SignError) -> SignError,
) -> Result<(), SignError> {
    let parts: Vec<Part> = plans.iter().map(|plan| plan.part(&[])).collect();
    for (index, plan) in plans.iter().enumerate() {
        let others = parts.iter().enumerate().filter(|(at, _)| *at != index).map(|(_, part)| part);
        if plan.destination != Destination::Development
            && let Some(lacks) = lacks_parts(&plan.manifest, others)
        {
            return Err(of(plan.build, SignError::Incomplete(lacks)));
        }
    }
    Ok(())
}

fn signing<'i>(
    cabinet: &Cabinet<'_>,
    inventory: &'i Inventory,
    plan: &'i Plan<'_>,
    request: &Request,
) -> Result<Signing<'i>, SignerError> {
    let (keystore, entry) =
        material::choose_key(inventory, plan.app.0, plan.destination, request.key.as_deref())?;
    let (key, certificate) = material::load_key(cabinet, inventory, entry)?;
    Ok(Signing { keystore, entry, key, certificate })
}

/// Gives what was made its names, with a row of history before and the release in the ledger behind.
#[expect(clippy::too_many_arguments, reason = "one build's whole story")]
fn deliver(
    ctx: &Ctx<'_>,
    request: &Request,
    cabinet: &mut Cabinet<'_>,
    inventory: &Inventory,
    plan: &Plan<'_>,
    key: &Signing<'_>,
    made: Made,
    outgoing: Outgoing,
) -> Result<SignReport, SignError> {
    let Made { output, idsig, signed, proof, realigned } = made;
    let Signing { keystore, entry, key, certificate } = key;
    let mut schemes: Vec<String> = signed.schemes.iter().map(ToString::to_string).collect();
    schemes.extend(idsig.is_some().then(|| Scheme::V4.to_string()));
    let fingerprint = key.public().fingerprint();
    let replaces = if request.replace { known_sha256(ctx, inventory, &plan.target)? } else { None };
    let release = Release {
        plan,
        signed: &signed,
        schemes: &schemes,
        signer: &fingerprint,
        certificate,
        replaces: replaces.clone(),
        proof: &proof,
    };
    let completes = release.item(ctx, cabinet, inventory, (keystore, entry));
    let what = format!("sign {}", plan.file);
    // the package last: what stands beside it is nothing without it
    let beside = idsig.map(|(file, digest)| (file, Some(digest)));
    let outputs = beside.into_iter().chain([(output, Some(release.proof.sha256.clone()))]).collect();
    let from = [entry.key];
    let delivery = outgoing::Plan { what: &what, purpose: "sign", from: &from, completes: Some(completes) };
    let taken = Taken::when_told(request.replace, ctx.env.now);
    let stale = Stale::set_aside(ctx, plan)?;
    let aside = match outgoing.deliver::<SignError>(ctx, cabinet, delivery, outputs, taken) {
        Ok(aside) => aside,
        Err(error) => {
            stale.into_iter().for_each(Stale::put_back);
            return Err(error);
        }
    };
    stale.into_iter().for_each(|stale| stale.drop_or_name(ctx));
    for path in aside {
        drop_known(ctx, path, replaces.as_deref());
    }
    let folder = request.to.strip_prefix(".").unwrap_or(&request.to);
    let shown = |file: &str| folder.join(file).display().to_string();
    let Proof { check, sha256, .. } = proof;
    Ok(SignReport {
        output: shown(&plan.file),
        size: check.size,
        app: plan.app.1.title.clone(),
        destination: plan.destination,
        keystore: keystore.name.clone(),
        alias: entry.alias.clone(),
        key_fingerprint: fingerprint,
        sha256,
        idsig: plan.idsig.as_ref().map(|(file, _)| shown(file)),
        schemes,
        was_signed: plan.was_signed,
        realigned,
        check,
    })
}

/// A file of scheme v4 that lies beside where the output goes and is not the output's: it would speak against it.
struct Stale {
    place: PathBuf,
    aside: PathBuf,
    /// Whether it holds for the build that the output takes the place of, and goes with it.
    belonged: bool,
}

impl Stale {
    fn set_aside(ctx: &Ctx<'_>, plan: &Plan<'_>) -> Result<Option<Self>, SignError> {
        let place = idsig_of(&plan.target);
        if std::fs::symlink_metadata(&place).is_err() {
            return Ok(None);
        }
        let belonged = InputFile::open(&plan.target).is_ok_and(|old| {
            let examined = files::read_whole(&place, check::MOST_IDSIG)
                .ok()
                .and_then(|idsig| check::examine(&ctx.env, &old, Some(&idsig)).ok());
            examined.is_some_and(|examined| examined.holds(Scheme::V4))
        });
        let failed = |cause| FileError::new("written", &place, cause);
        let Some(aside) = files::set_aside(&place, ctx.env.now).map_err(failed)? else { return Ok(None) };
        match std::fs::remove_file(&place) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(failed(error).into()),
            _ => Ok(Some(Stale { place, aside, belonged })),
        }
    }

    /// The output was not made: everything is as it was.
    fn put_back(self) {
        let _ = files::move_into_place(&self.aside, &self.place);
    }

    fn drop_or_name(self, ctx: &Ctx<'_>) {
        if !self.belonged || std::fs::remove_file(&self.aside).is_err() {
            ctx.notice(Notice::SetAside(self.aside));
        }
    }
}

/// Where the file of scheme v4 beside a build is.
fn idsig_of(target: &Path) -> PathBuf {
    let mut name = target.as_os_str().to_owned();
    name.push(".");
    name.push(idsig::ENDING);
    PathBuf::from(name)
}

/// Finds out what the build is, where it goes, and what the output is called.
fn plan<'p>(
    ctx: &Ctx<'_>,
    request: &Request,
    build: &'p Path,
    project: &'p Project,
    opened: &Opened<'_>,
) -> Result<Plan<'p>, SignError> {
    let named = match &request.app {
        Some(wanted) => Some(project.app(wanted).ok_or_else(|| SignError::UnknownApp(wanted.clone()))?),
        None => None,
    };
    let (app, destination) = place(opened, project, named, request.destination)?;
    let manifest = opened.manifest().clone();
    let file = format!("{}.{}", file_stem(app.0, &manifest, destination), opened.kind().ending());
    let target = ctx.path(&request.to).join(&file);
    let idsig = request.idsig.then(|| {
        let file = format!("{file}.{}", idsig::ENDING);
        let place = target.with_file_name(&file);
        (file, place)
    });
    Ok(Plan { build, app, destination, manifest, was_signed: opened.is_signed(), file, target, idsig })
}

/// Writes the output and what stands beside it under temporary names, and proves both.
fn make(
    ctx: &Ctx<'_>,
    request: &Request,
    plan: &Plan<'_>,
    allowed: Allowed<'_>,
    key: &Signing<'_>,
    beside: &Beside<'_>,
    outgoing: &mut Outgoing,
) -> Result<Made, SignError> {
    let identity = Identity { signer: &key.key, certificate: &key.certificate, alias: &key.entry.alias };
    let signing = &PackageSigning { schemes: request.schemes, ..PackageSigning::usual(identity) };
    let laid_out = allowed.lay_out(*signing, &ctx.env)?;
    let realigned = laid_out.realigned();
    let (output, signed) = write_output(ctx, laid_out, &plan.target, outgoing)?;
    let subject = BuildSubject {
        file: plan.file.clone(),
        path: plan.build.display().to_string(),
        destination: Some(plan.destination),
        app: Some(plan.app),
        above: None,
        superseded: request.replace.then_some(plan.file.as_str()),
        parts: &beside.parts,
    };
    let proof = prove(ctx, &output, beside.background, &subject)?;
    let idsig = match &plan.idsig {
        Some((_, target)) => {
            Some(write_idsig(ctx, &output, &proof, signing, outgoing.file(target, Access::Usual)?)?)
        }
        None => None,
    };
    Ok(Made { output, idsig, signed, proof, realigned })
}

/// The tree over the output and its signature, under a temporary name, verified as `check` would.
fn write_idsig(
    ctx: &Ctx<'_>,
    output: &OutputFile,
    proof: &Proof,
    signing: &PackageSigning<'_>,
    file: OutputFile,
) -> Result<(OutputFile, String), SignError> {
    let written = output.reread()?;
    let bytes = make_idsig(&written, &proof.signatures, signing, &ctx.env)?;
    let mut signatures = proof.signatures.clone();
    check_idsig(&written, &bytes, &mut signatures, &Limits::USUAL, &ctx.env).map_err(CoreError::from)?;
    let holds = |report: &SchemeReport| report.scheme == Scheme::V4 && report.state == SchemeState::Verified;
    if !signatures.schemes.iter().any(holds) {
        return Err(SignError::Idsig);
    }
    file.put(0, &bytes)?;
    Ok((file, sha256_hex(&bytes)))
}

/// Finds out which app a build is and where it goes.
fn place<'p>(
    opened: &Opened<'_>,
    project: &'p Project,
    named: Option<(&'p str, &'p App)>,
    wanted: Option<Destination>,
) -> Result<((&'p str, &'p App), Destination), SignError> {
    let package = &opened.manifest().package;
    let app = named
        .or_else(|| project.app_of_package(package))
        .ok_or_else(|| SignError::UnknownPackage(package.clone()))?;
    let first = app.1.android.as_ref().and_then(|android| android.destinations.first());
    // a bundle is for the store, wherever the app's builds usually go
    let bundle = (opened.kind() == PackageKind::Bundle).then_some(Destination::Store);
    let destination =
        wanted.or(bundle).or(first.copied()).ok_or_else(|| SignError::NoDestination(app.1.title.clone()))?;
    if matches!(destination, Destination::Devices | Destination::InHouse) {
        return Err(SignError::Destination(destination));
    }
    Ok((app, destination))
}

fn refuse_targets(
    ctx: &Ctx<'_>,
    inputs: &[&Path],
    targets: &[&Path],
    replace: bool,
) -> Result<(), SignError> {
    match outputs::refuse_ours(ctx, targets, inputs) {
        Err(OutputError::Ours { ours: Ours::Input, .. }) => return Err(SignError::OverInput),
        other => other?,
    }
    outputs::refuse_taken(ctx, targets, replace).map_err(|error| match error {
        OutputError::Exists(path) => SignError::Exists(path),
        other => other.into(),
    })
}

/// The SHA-256 of a file that the ledger knows; only what has a release's size is read.
fn known_sha256(ctx: &Ctx<'_>, inventory: &Inventory, target: &Path) -> Result<Option<String>, SignError> {
    let Ok(found) = std::fs::metadata(target) else { return Ok(None) };
    let releases = inventory.releases();
    if !releases.iter().any(|release| release.size == found.len()) {
        return Ok(None);
    }
    let sha256 = files::sha256(target, &ctx.env)?;
    Ok(releases.iter().any(|release| release.sha256 == sha256).then_some(sha256))
}

/// What was set aside and the ledger knows to the byte can be made again, and goes; anything else is named.
fn drop_known(ctx: &Ctx<'_>, aside: PathBuf, known: Option<&str>) {
    let is_known = known.is_some_and(|known| files::sha256(&aside, &ctx.env).is_ok_and(|now| now == known));
    if !is_known || std::fs::remove_file(&aside).is_err() {
        ctx.notice(Notice::SetAside(aside));
    }
}

/// Streams the entries, signs, and puts the tail behind them, all under a temporary name.
fn write_output(
    ctx: &Ctx<'_>,
    laid_out: LaidOut<'_, '_>,
    target: &Path,
    outgoing: &mut Outgoing,
) -> Result<(OutputFile, Signed), SignError> {
    let output = outgoing.file(target, Access::Usual)?;
    let ready = match laid_out.digest(&output as &dyn Sink, &ctx.env) {
        Ok(ready) => ready,
        Err(CoreError::Digest(DigestError::Write(cause))) => {
            return Err(FileError::new("written", target, cause).into());
        }
        Err(error) => return Err(error.into()),
    };
    let signed = ready.sign()?;
    output.put(signed.at, &signed.tail)?;
    Ok((output, signed))
}

/// What was proved of the output.
struct Proof {
    check: CheckReport,
    signatures: Signatures,
    folders: BTreeMap<String, u64>,
    sha256: String,
}

/// Checks what was written by the code of `check`, and hashes it for the ledger, while the disk settles. Only what is
/// ready passes.
fn prove(
    ctx: &Ctx<'_>,
    output: &OutputFile,
    background: &Background,
    subject: &BuildSubject<'_>,
) -> Result<Proof, SignError> {
    let written = output.reread()?;
    let env = ctx.env;
    let (proof, settled, hashed) = std::thread::scope(|scope| {
        let settling = scope.spawn(|| output.settle());
        let hashing = scope.spawn(|| source_sha256(&written, &env));
        // the hash is one long chain: it keeps a core to itself, and the check takes the others
        let others = rayon::current_num_threads().saturating_sub(1).max(1);
        let check = || {
            let examined = check::examine(&env, &written, None)?;
            Ok(check::judge(&env, background, subject, examined))
        };
        let proof = match rayon::ThreadPoolBuilder::new().num_threads(others).build() {
            Ok(pool) => pool.install(check),
            Err(_) => check(),
        };
        (proof, settling.join(), hashing.join())
    });
    settled.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
    let proof = proof.map_err(stopped_or_unchecked)?;
    if !proof.report.ready {
        return Err(SignError::NotReady(Box::new(proof.report)));
    }
    let sha256 = hashed.unwrap_or_else(|panic| std::panic::resume_unwind(panic)).map_err(CoreError::from)?;
    let CheckedSource { report: check, signatures, folders } = proof;
    Ok(Proof { check, signatures, folders, sha256 })
}

fn stopped_or_unchecked(error: CheckError) -> SignError {
    match error {
        CheckError::Digest(DigestError::Stopped) => CoreError::Digest(DigestError::Stopped).into(),
        other => SignError::Check(Box::new(other)),
    }
}

/// What goes into the ledger.
struct Release<'a> {
    plan: &'a Plan<'a>,
    signed: &'a Signed,
    schemes: &'a [String],
    signer: &'a str,
    certificate: &'a [u8],
    /// SHA-256 of the file that it takes the place of.
    replaces: Option<String>,
    proof: &'a Proof,
}

impl Release<'_> {
    /// How often these bytes were released for this place before: once more when they replace others, or were replaced.
    fn number(&self, inventory: &Inventory, replaces: bool) -> usize {
        let releases = inventory.releases();
        let gone = replaced(&releases);
        let same = |release: &ReleaseFacts| {
            release.sha256 == self.proof.sha256 && release.destination == self.plan.destination
        };
        let own: Vec<bool> =
            releases.iter().zip(gone).filter(|(release, _)| same(release)).map(|(_, gone)| gone).collect();
        let goes_on = own.last().is_some_and(|gone| !gone) && !replaces;
        own.len() - usize::from(goes_on)
    }

    /// The release as the ledger will have it, when the output has its name. The very same bytes for the same place are
    /// one release.
    fn item(
        &self,
        ctx: &Ctx<'_>,
        cabinet: &Cabinet<'_>,
        inventory: &Inventory,
        (keystore, entry): (&Item, &KeystoreEntry),
    ) -> NewItem {
        let content = &self.signed.content;
        let Plan { app, destination, manifest, file, .. } = self.plan;
        // the same file in the place of itself replaces nothing
        let replaces = self.replaces.clone().filter(|replaced| *replaced != self.proof.sha256);
        let number = self.number(inventory, replaces.is_some());
        let mut short = sha256_hex(format!("{}{destination}{number}", self.proof.sha256).as_bytes());
        short.truncate(12);
        let stem = file.rsplit_once('.').map_or(file.as_str(), |(stem, _)| stem);
        let facts = ReleaseFacts {
            app: app.0.into(),
            id: manifest.package.clone(),
            version: manifest.version_name.clone().unwrap_or_default(),
            code: manifest.version_code.unwrap_or(0),
            destination: *destination,
            file: file.clone(),
            size: self.proof.check.size,
            content: content.clone(),
            signed_with: keystore.name.clone(),
            signer: self.signer.into(),
            signer_certificate: sha256_hex(self.certificate),
            certificate: Some(entry.certificate),
            profile: None,
            schemes: self.schemes.to_vec(),
            signed: ctx.env.now,
            by: cabinet.unlocked_by().map(|member| member.label.clone()).unwrap_or_default(),
            split: manifest.split.clone(),
            replaces,
            sha256: self.proof.sha256.clone(),
            folders: self.proof.folders.clone(),
        };
        NewItem::new(format!("{stem}~{short}"), Facts::Release(Box::new(facts)), None)
    }
}
