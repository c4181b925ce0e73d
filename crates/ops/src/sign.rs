//! `sign`: a build, signed for its destination, proved, named and written into the ledger.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::{Cabinet, CabinetError, NewItem};
use ninekeys_core::android::{Identity, LaidOut, Opened, Ready, SignError as CoreError, Signed};
use ninekeys_core::digest::{DigestError, Sink, from_hex, sha256_hex};
use ninekeys_core::findings::Level;
use ninekeys_core::keys::{KeyError, PrivateKey, Signer};
use ninekeys_core::model::{
    App, Destination, Facts, Inventory, Item, KeystoreEntry, KeystoreFacts, Project, ReleaseFacts, Role,
};
use ninekeys_core::rules::file_stem;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::Manifest;
use serde::Serialize;
use thiserror::Error;

use crate::check::{self, Background, BuildSubject, CheckError, CheckReport};
use crate::ctx::{Ctx, OpenError};
use crate::files::{Access, FileError, InputFile, NewFolders, OutputFile};
use crate::project::ProjectError;

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
    #[error("an APK is signed for development, direct or store, not for {0}")]
    Destination(Destination),
    /// No key for the app.
    #[error("the cabinet holds no {role} key for {app}")]
    NoKey {
        /// The app's name.
        app: String,
        /// Which kind is missing.
        role: &'static str,
    },
    /// Several keys for the app.
    #[error("the cabinet holds several keys for {app}: {}", names.join(", "))]
    SeveralKeys {
        /// The app's name.
        app: String,
        /// The keystores.
        names: Vec<String>,
    },
    /// What was named as key is no keystore.
    #[error("{name} is a {found}, not a keystore")]
    NotAKeystore {
        /// Its name.
        name: String,
        /// What it is.
        found: &'static str,
    },
    /// The private key cannot be used.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The output has its name taken.
    #[error("{0} exists already")]
    Exists(String),
    /// The input would be overwritten.
    #[error("the output would take the place of the build itself")]
    OverInput,
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

/// Signs, proves, names and records. The cabinet is unlocked before any long work.
///
/// # Errors
/// [`SignError`]; then no file bears the output's name that did not before, and the ledger is as it was.
pub fn sign(ctx: &Ctx<'_>, request: &Request) -> Result<SignReport, SignError> {
    let input_path = ctx.path(&request.build);
    let input = InputFile::open(&input_path)?;
    let project = ctx.project_file()?.project;
    let named = match &request.app {
        Some(wanted) => Some(project.app(wanted).ok_or_else(|| SignError::UnknownApp(wanted.clone()))?),
        None => None,
    };
    let opened = Opened::open(&input, &Limits::USUAL)?;
    let (app, destination) = place(&opened, &project, named, request.destination)?;
    let manifest = opened.manifest().clone();
    let was_signed = opened.is_signed();
    let allowed = opened.allow(destination)?;
    let file = format!("{}.apk", file_stem(app.0, &manifest, destination));
    let target = ctx.path(&request.to).join(&file);
    refuse_target(&input_path, &target, request.replace)?;

    let cabinet = ctx.open_unlocked()?;
    let inventory = cabinet.inventory()?;
    let (keystore, entry) = choose_key(&inventory, app.0, destination, request.key.as_deref())?;
    let (key, certificate) = load_key(&cabinet, &inventory, entry)?;

    let folders = NewFolders::make(&ctx.path(&request.to))?;
    let identity = Identity { signer: &key, certificate: &certificate, alias: &entry.alias };
    let laid_out = allowed.lay_out(identity, &ctx.env)?;
    let realigned = laid_out.realigned();
    let (output, signed) = write_output(ctx, laid_out, &target, identity)?;
    let background = Background { project: Some(project.clone()), inventory: Some(inventory.clone()) };
    let subject = BuildSubject {
        file: file.clone(),
        path: request.build.display().to_string(),
        destination: Some(destination),
        app: Some(app),
        above: None,
        superseded: request.replace.then_some(file.as_str()),
    };
    let check = prove(ctx, &output, &background, &subject)?;
    let signer = key.public().fingerprint();
    let release = Release {
        app: app.0,
        file: &file,
        destination,
        manifest: &manifest,
        signed: &signed,
        signer: &signer,
    };
    let finish = || output.finish(request.replace);
    record(ctx, cabinet, &release, &check, keystore, entry, finish)?;
    folders.keep();
    Ok(SignReport {
        output: request.to.strip_prefix(".").unwrap_or(&request.to).join(&file).display().to_string(),
        size: check.size,
        app: app.1.title.clone(),
        destination,
        keystore: keystore.name.clone(),
        alias: entry.alias.clone(),
        key_fingerprint: signer,
        schemes: signed.schemes.iter().map(ToString::to_string).collect(),
        was_signed,
        realigned,
        check,
    })
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
    let destination =
        wanted.or(first.copied()).ok_or_else(|| SignError::NoDestination(app.1.title.clone()))?;
    if matches!(destination, Destination::Devices | Destination::InHouse) {
        return Err(SignError::Destination(destination));
    }
    Ok((app, destination))
}

fn refuse_target(input: &Path, target: &Path, replace: bool) -> Result<(), SignError> {
    if !target.exists() {
        return Ok(());
    }
    let same = match (input.canonicalize(), target.canonicalize()) {
        (Ok(input), Ok(target)) => input == target,
        _ => false,
    };
    match (same, replace) {
        (true, _) => Err(SignError::OverInput),
        (false, true) => Ok(()),
        (false, false) => Err(SignError::Exists(target.display().to_string())),
    }
}

/// The key for an app and a destination: for the store its upload key if there is one, else its signing key.
fn choose_key<'a>(
    inventory: &'a Inventory,
    app: &'a str,
    destination: Destination,
    named: Option<&str>,
) -> Result<(&'a Item, &'a KeystoreEntry), SignError> {
    if let Some(named) = named {
        let item = inventory.find(named).map_err(CabinetError::from)?;
        let Facts::Keystore(facts) = &item.facts else {
            return Err(SignError::NotAKeystore { name: item.name.clone(), found: item.facts.word() });
        };
        return match named_entry(facts, app, destination) {
            Some(entry) => Ok((item, entry)),
            None => Err(SignError::NoKey { app: app.into(), role: "signing" }),
        };
    }
    // the same key in several keystores is one key
    let of = |role: Role| -> Vec<_> {
        let mut out: Vec<(&Item, &KeystoreEntry)> = Vec::new();
        for (item, entry) in inventory.android_keys(app).filter(|(_, entry)| entry.role == role) {
            if !out.iter().any(|(_, known)| known.key == entry.key) {
                out.push((item, entry));
            }
        }
        out
    };
    let upload = if destination == Destination::Store { of(Role::Upload) } else { Vec::new() };
    let found = if upload.is_empty() { of(Role::Signing) } else { upload };
    match found.as_slice() {
        [] => Err(SignError::NoKey { app: app.into(), role: "signing" }),
        [one] => Ok(*one),
        many => Err(SignError::SeveralKeys {
            app: app.into(),
            names: many.iter().map(|(item, _)| item.name.clone()).collect(),
        }),
    }
}

/// The key of a keystore that was named: one for the app, of the kind that the destination wants if there is one.
fn named_entry<'a>(
    facts: &'a KeystoreFacts,
    app: &str,
    destination: Destination,
) -> Option<&'a KeystoreEntry> {
    let wanted = if destination == Destination::Store { Role::Upload } else { Role::Signing };
    let own = || facts.entries.iter().filter(|entry| entry.apps.iter().any(|name| name == app));
    own().find(|entry| entry.role == wanted).or_else(|| own().next()).or(facts.entries.first())
}

/// The private key and its certificate's DER.
fn load_key(
    cabinet: &Cabinet,
    inventory: &Inventory,
    entry: &KeystoreEntry,
) -> Result<(PrivateKey, Vec<u8>), SignError> {
    let gone = || CabinetError::Tampered(format!("the key of {} is gone", entry.alias));
    let key = inventory.get(&entry.key).ok_or_else(gone)?;
    let key = cabinet.secret(key)?.lend(|der| PrivateKey::from_pkcs8(der))?;
    let certificate = match inventory.get(&entry.certificate).map(|item| &item.facts) {
        Some(Facts::Certificate(facts)) => from_hex(&facts.der).ok_or_else(gone)?,
        _ => return Err(gone().into()),
    };
    Ok((key, certificate))
}

/// Streams the entries, signs, and puts the tail behind them, all under a temporary name.
fn write_output(
    ctx: &Ctx<'_>,
    laid_out: LaidOut<'_>,
    target: &Path,
    identity: Identity<'_>,
) -> Result<(OutputFile, Signed), SignError> {
    let output = OutputFile::begin(target, Access::Usual)?;
    let ready: Ready = match laid_out.digest(identity.signer, &output as &dyn Sink, &ctx.env) {
        Ok(ready) => ready,
        Err(CoreError::Digest(DigestError::Write(cause))) => {
            return Err(FileError::new("written", target, cause).into());
        }
        Err(error) => return Err(error.into()),
    };
    let signed = ready.sign(identity.signer, identity.certificate)?;
    output.put(signed.at, &signed.tail)?;
    Ok((output, signed))
}

/// Checks what was written by the code of `check`, while the disk settles. Only what is ready passes.
fn prove(
    ctx: &Ctx<'_>,
    output: &OutputFile,
    background: &Background,
    subject: &BuildSubject<'_>,
) -> Result<CheckReport, SignError> {
    let written = output.reread()?;
    let (proof, settled) = std::thread::scope(|scope| {
        let settling = scope.spawn(|| output.settle());
        let proof = check::check_source(ctx, &written, background, subject);
        (proof, settling.join())
    });
    settled.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
    let check = proof.map_err(stopped_or_unchecked)?;
    if check.ready { Ok(check) } else { Err(SignError::NotReady(Box::new(check))) }
}

fn stopped_or_unchecked(error: CheckError) -> SignError {
    match error {
        CheckError::Digest(DigestError::Stopped) => CoreError::Digest(DigestError::Stopped).into(),
        other => SignError::Check(Box::new(other)),
    }
}

/// What goes into the ledger.
struct Release<'a> {
    app: &'a str,
    file: &'a str,
    destination: Destination,
    manifest: &'a Manifest,
    signed: &'a Signed,
    signer: &'a str,
}

/// Writes the release into the ledger and gives the output its name, in one change: when either fails, neither is
/// done. The very same bytes for the same place are one release.
fn record(
    ctx: &Ctx<'_>,
    mut cabinet: Cabinet,
    release: &Release<'_>,
    check: &CheckReport,
    keystore: &Item,
    entry: &KeystoreEntry,
    finish: impl FnOnce() -> Result<(), FileError>,
) -> Result<(), SignError> {
    let by = cabinet.unlocked_by().unwrap_or_default().to_owned();
    let content = &release.signed.content;
    let signer = release.signer;
    let mut short = sha256_hex(format!("{content}{signer}").as_bytes());
    short.truncate(12);
    let name = format!("{}~{short}", release.file.strip_suffix(".apk").unwrap_or(release.file));
    let facts = ReleaseFacts {
        app: release.app.into(),
        id: release.manifest.package.clone(),
        version: release.manifest.version_name.clone().unwrap_or_default(),
        code: release.manifest.version_code.unwrap_or(0),
        destination: release.destination,
        file: release.file.into(),
        size: check.size,
        content: content.clone(),
        signed_with: keystore.name.clone(),
        signer: signer.into(),
        certificate: Some(entry.certificate),
        profile: None,
        schemes: release.signed.schemes.iter().map(ToString::to_string).collect(),
        signed: ctx.env.now,
        by,
    };
    cabinet.change(&format!("sign {}", release.file), &ctx.env, |change| {
        let known = change.inventory()?.iter().any(|item| item.name == name);
        if !known {
            change.put(NewItem::new(name.clone(), Facts::Release(facts), None))?;
        }
        // last, so that only a failing commit could leave a name without a row
        finish().map_err(SignError::from)
    })
}
