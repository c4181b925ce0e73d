//! `sign`: a build, signed for its destination, proved, named and written into the ledger.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ninekeys_cabinet::{Cabinet, CabinetError, NewItem};
use ninekeys_core::android::{
    Allowed, Identity, LaidOut, Opened, PackageKind, Scheme, SchemeReport, SchemeState, Schemes,
    SignError as CoreError, Signatures, Signed, Signing, check_idsig, make_idsig,
};
use ninekeys_core::digest::{DigestError, Sink, sha256_hex, source_sha256};
use ninekeys_core::findings::Level;
use ninekeys_core::keys::Signer;
use ninekeys_core::model::{App, Destination, Facts, Inventory, Item, KeystoreEntry, Project, ReleaseFacts};
use ninekeys_core::rules::file_stem;
use ninekeys_formats::idsig;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::Manifest;
use serde::Serialize;
use thiserror::Error;

use crate::check::{self, Background, BuildSubject, CheckError, CheckReport, CheckedSource};
use crate::ctx::{Ctx, Notice, OpenError};
use crate::files::{self, Access, FileError, InputFile, NewFolders, OutputFile, Taken};
use crate::outgoing::{self, Outgoing};
use crate::outputs::{self, Ours, OutputError};
use crate::project::ProjectError;
use crate::signer::{self, SignerError};

/// The build to be signed.
#[derive(Debug)]
pub struct Request {
    /// The file.
    pub build: PathBuf,
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
    app: (&'p str, &'p App),
    destination: Destination,
    manifest: Manifest,
    was_signed: bool,
    file: String,
    target: PathBuf,
    /// The file of scheme v4 and its place, where it is wanted.
    idsig: Option<(String, PathBuf)>,
}

/// What was made, under temporary names.
struct Made {
    output: OutputFile,
    idsig: Option<(OutputFile, String)>,
    signed: Signed,
    proof: Proof,
    realigned: usize,
}

/// Signs, proves, names and records. The cabinet is unlocked before any long work.
///
/// # Errors
/// [`SignError`]; then no file bears the output's name that did not before, and the ledger is as it was.
pub fn sign(ctx: &Ctx<'_>, request: &Request) -> Result<SignReport, SignError> {
    let input_path = ctx.path(&request.build);
    let input = InputFile::open(&input_path)?;
    let project = ctx.project_file()?.project;
    let opened = Opened::open(&input, &Limits::USUAL)?;
    let plan = plan(ctx, request, &project, &opened)?;
    let allowed = opened.allow(plan.destination)?;
    let targets: Vec<&Path> = std::iter::once(plan.target.as_path())
        .chain(plan.idsig.iter().map(|(_, path)| path.as_path()))
        .collect();
    refuse_targets(ctx, &input_path, &targets, request.replace)?;

    let mut cabinet = ctx.open_unlocked()?;
    let inventory = cabinet.inventory()?;
    let (keystore, entry) =
        signer::choose_key(&inventory, plan.app.0, plan.destination, request.key.as_deref())?;
    let (key, certificate) = signer::load_key(&cabinet, &inventory, entry)?;

    let folders = NewFolders::make(&ctx.path(&request.to))?;
    let identity = Identity { signer: &key, certificate: &certificate, alias: &entry.alias };
    let signing = Signing { schemes: request.schemes, ..Signing::usual(identity) };
    let background = Background { project: Some(project.clone()), inventory: Some(Arc::clone(&inventory)) };
    let mut outgoing = Outgoing::begin(ctx, &cabinet)?;
    let Made { output, idsig, signed, proof, realigned } =
        make(ctx, request, &plan, allowed, &signing, &background, &mut outgoing)?;
    let mut schemes: Vec<String> = signed.schemes.iter().map(ToString::to_string).collect();
    schemes.extend(idsig.is_some().then(|| Scheme::V4.to_string()));
    let fingerprint = key.public().fingerprint();
    let release =
        Release { plan: &plan, signed: &signed, schemes: &schemes, signer: &fingerprint, proof: &proof };
    let completes = release.item(ctx, &cabinet, keystore, entry);
    let what = format!("sign {}", plan.file);
    // the package last: what stands beside it is nothing without it
    let beside = idsig.map(|(file, digest)| (file, Some(digest)));
    let outputs = beside.into_iter().chain([(output, Some(release.proof.sha256.clone()))]).collect();
    let from = [entry.key];
    let delivery = outgoing::Plan { what: &what, purpose: "sign", from: &from, completes: Some(completes) };
    let taken = Taken::when_told(request.replace, ctx.env.now);
    let aside = outgoing.deliver::<SignError>(ctx, &mut cabinet, delivery, outputs, taken)?;
    for path in aside {
        drop_known(ctx, &inventory, path);
    }
    folders.keep();
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

/// Finds out what the build is, where it goes, and what the output is called.
fn plan<'p>(
    ctx: &Ctx<'_>,
    request: &Request,
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
    Ok(Plan { app, destination, manifest, was_signed: opened.is_signed(), file, target, idsig })
}

/// Writes the output and what stands beside it under temporary names, and proves both.
fn make(
    ctx: &Ctx<'_>,
    request: &Request,
    plan: &Plan<'_>,
    allowed: Allowed<'_>,
    signing: &Signing<'_>,
    background: &Background,
    outgoing: &mut Outgoing,
) -> Result<Made, SignError> {
    let laid_out = allowed.lay_out(*signing, &ctx.env)?;
    let realigned = laid_out.realigned();
    let (output, signed) = write_output(ctx, laid_out, &plan.target, outgoing)?;
    let subject = BuildSubject {
        file: plan.file.clone(),
        path: request.build.display().to_string(),
        destination: Some(plan.destination),
        app: Some(plan.app),
        above: None,
        superseded: request.replace.then_some(plan.file.as_str()),
        idsig: None,
    };
    let proof = prove(ctx, &output, background, &subject)?;
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
    signing: &Signing<'_>,
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

fn refuse_targets(ctx: &Ctx<'_>, input: &Path, targets: &[&Path], replace: bool) -> Result<(), SignError> {
    match outputs::refuse_ours(ctx, targets, &[input]) {
        Err(OutputError::Ours { ours: Ours::Input, .. }) => return Err(SignError::OverInput),
        other => other?,
    }
    outputs::refuse_taken(ctx, targets, replace).map_err(|error| match error {
        OutputError::Exists(path) => SignError::Exists(path),
        other => other.into(),
    })
}

/// What was set aside and the ledger knows to the byte can be made again, and goes; anything else is named.
fn drop_known(ctx: &Ctx<'_>, inventory: &Inventory, aside: PathBuf) {
    let size = std::fs::metadata(&aside).map(|found| found.len()).unwrap_or(u64::MAX);
    let releases = inventory.releases();
    let mut same_size = releases.iter().filter(|release| release.size == size).peekable();
    let is_known = same_size.peek().is_some()
        && files::sha256(&aside, &ctx.env)
            .is_ok_and(|found| same_size.any(|release| release.sha256 == found));
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
        let check = || check::check_source(&env, &written, background, subject);
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
    proof: &'a Proof,
}

impl Release<'_> {
    /// The release as the ledger will have it, when the output has its name. The very same bytes for the same place are
    /// one release.
    fn item(&self, ctx: &Ctx<'_>, cabinet: &Cabinet<'_>, keystore: &Item, entry: &KeystoreEntry) -> NewItem {
        let content = &self.signed.content;
        let Plan { app, destination, manifest, file, .. } = self.plan;
        let mut short = sha256_hex(format!("{content}{}{destination}", self.signer).as_bytes());
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
            certificate: Some(entry.certificate),
            profile: None,
            schemes: self.schemes.to_vec(),
            signed: ctx.env.now,
            by: cabinet.unlocked_by().map(|member| member.label.clone()).unwrap_or_default(),
            sha256: self.proof.sha256.clone(),
            folders: self.proof.folders.clone(),
        };
        NewItem::new(format!("{stem}~{short}"), Facts::Release(Box::new(facts)), None)
    }
}
