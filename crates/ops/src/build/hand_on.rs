//! `hand-on`: a build that goes to no store leaves as a folder, with what whoever gets it has to know: its hash, which devices can
//! run it, and until when.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::CabinetError;
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::model::{BuildNumber, Destination, Inventory, Platform};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::check::{self, CheckError, CheckReport, file_name};
use crate::answers::CertificateSaid;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, Access, FileError, InputFile, NewFolders, Taken};
use crate::give::{GiveError, refuse_full};
use crate::outgoing::{Outgoing, Output, Plan};
use crate::outputs::{self, OutputError};
use crate::profile::{self, AllowedDevice};
use crate::store;

/// The sheet that says what is what.
const SHEET: &str = "what-it-is.txt";
/// The hashes, as `sha256sum --check` reads them.
const SUMS: &str = "SHA256SUMS";
/// How much is copied at once, in bytes.
const PIECE: u64 = 8 << 20;

/// Which build, and where its folder goes.
#[derive(Debug)]
pub struct Request {
    /// The build.
    pub build: PathBuf,
    /// Where it goes; what it was signed for when nothing is said.
    pub destination: Option<Destination>,
    /// The app that it has to be, when it does not say.
    pub app: Option<String>,
    /// The folder, which is not there yet or empty.
    pub to: PathBuf,
}

/// What came of it.
#[derive(Debug)]
pub enum Outcome {
    /// The folder is there.
    HandedOn(Box<HandOnReport>),
    /// It is not ready: nothing was written.
    NotReady(Box<CheckReport>),
}

/// A build in a folder, with what is to be known of it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct HandOnReport {
    /// The folder.
    pub folder: String,
    /// The build's name in it.
    pub file: String,
    /// Its size in bytes.
    pub size: u64,
    /// SHA-256 of it.
    pub sha256: String,
    /// The app's name, if the project file has it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub app: Option<String>,
    /// What people call the app.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// What it is made for.
    pub platform: Platform,
    /// Package or bundle id.
    pub id: String,
    /// The version's name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// The version code or build number.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number: Option<BuildNumber>,
    /// Where it goes.
    pub destination: Destination,
    /// The certificate that signed it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub certificate: Option<CertificateSaid>,
    /// Which devices can run it.
    pub runs_on: RunsOn,
    /// Until when they do; no end is known where nothing is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
    /// How many findings the check had that are no errors.
    pub warnings: usize,
    /// When.
    pub at: Timestamp,
}

/// Which devices can run a build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RunsOn {
    /// Those that its profile lists.
    Listed(Vec<AllowedDevice>),
    /// Every device that the company manages.
    Company,
    /// Every device from that system on: an SDK level on Android, a version on iOS.
    From(String),
}

/// Why there is no folder.
#[derive(Debug, Error)]
pub enum HandOnError {
    /// The check before it.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// It is for the store.
    #[error("{0} is for the store, and goes there")]
    ForStore(String),
    /// Nothing says where it goes.
    #[error("nothing says where {0} goes")]
    NoDestination(String),
    /// It does not say what it is.
    #[error("{0} does not say which app it is")]
    NoApp(String),
    /// A folder is no build that can be handed on.
    #[error("{0} is a folder; what is handed on is one file")]
    AFolder(String),
    /// The folder has something in it.
    #[error("{0} is there, and has something in it")]
    NotEmpty(String),
    /// The build was changed while it was read.
    #[error("{0} was changed meanwhile")]
    Changed(String),
    /// The user stopped.
    #[error("it was stopped")]
    Stopped,
    /// An output would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Checks a build for where it goes, and puts it into a folder with a sheet that says what it is.
///
/// # Errors
/// [`HandOnError`]; then nothing is there that was not.
pub fn hand_on(ctx: &Ctx<'_>, request: &Request) -> Result<Outcome, HandOnError> {
    let path = ctx.path(&request.build);
    let file = file_name(&path);
    if path.is_dir() {
        return Err(HandOnError::AFolder(request.build.display().to_string()));
    }
    let folder = ctx.path(&request.to);
    refuse_full(&folder, &request.to).map_err(|error| match error {
        GiveError::File(error) => HandOnError::File(error),
        _ => HandOnError::NotEmpty(request.to.display().to_string()),
    })?;
    let sha256 = files::sha256(&path, &ctx.env)?;
    let wanted = check::Request {
        build: request.build.clone(),
        destination: request.destination,
        app: request.app.clone(),
        above: None,
        device: None,
        ask_store: false,
    };
    let checked = check::check(ctx, std::slice::from_ref(&wanted))?;
    let checked = checked.into_iter().next().ok_or_else(|| HandOnError::NoApp(file.clone()))?.outcome?;
    let destination = checked.destination.ok_or_else(|| HandOnError::NoDestination(file.clone()))?;
    if destination == Destination::Store {
        return Err(HandOnError::ForStore(file));
    }
    if !checked.verdict.is_ready() {
        return Ok(Outcome::NotReady(Box::new(checked)));
    }
    let mut cabinet = ctx.open_unlocked()?;
    let inventory = cabinet.inventory()?;
    let report = report(ctx, request, &checked, (file, destination, sha256), &inventory)?;
    let places = [report.file.as_str(), SHEET, SUMS].map(|name| folder.join(name));
    let places: Vec<&Path> = places.iter().map(PathBuf::as_path).collect();
    outputs::refuse_ours(ctx, &places, &[&path])?;
    outputs::refuse_taken(ctx, &places, false)?;
    let folders = NewFolders::make(&folder)?;
    let mut outgoing = Outgoing::begin(ctx, &cabinet)?;
    let sums = format!("{}  {}\n", report.sha256, report.file);
    let sheet = sheet(&report);
    let mut outputs: Vec<(Output, Option<String>)> = Vec::new();
    for (name, text) in [(SHEET, &sheet), (SUMS, &sums)] {
        let output = outgoing.file(&folder.join(name), Access::Usual)?;
        output.put(0, text.as_bytes())?;
        outputs.push((output.into(), Some(sha256_hex(text.as_bytes()))));
    }
    // the build last: the sheet is nothing without it
    let output = outgoing.file(&folder.join(&report.file), Access::Usual)?;
    copy(ctx, &path, &output)?;
    if files::sha256(output.path(), &ctx.env)? != report.sha256 {
        return Err(HandOnError::Changed(report.file));
    }
    outputs.push((output.into(), Some(report.sha256.clone())));
    let what = format!("hand-on of {} for {}", report.file, destination.phrase());
    let plan = Plan { what: &what, purpose: "hand-on", from: &[], completes: None };
    outgoing.deliver::<HandOnError>(ctx, &mut cabinet, plan, outputs, Taken::Refuse)?;
    folders.keep();
    let noted = format!("{} was handed on", report.file);
    // the folder is there, whether or not that can be written down now
    let _ =
        store::note(ctx, &mut cabinet, &noted, (&report.sha256, destination), |facts| &mut facts.handed_on);
    Ok(Outcome::HandedOn(Box::new(report)))
}

/// Copies the build, a piece at a time.
fn copy(ctx: &Ctx<'_>, from: &Path, to: &files::OutputFile) -> Result<(), HandOnError> {
    use ninekeys_formats::source::Source;
    let input = InputFile::open(from)?;
    let changed = |_| HandOnError::Changed(file_name(from));
    let mut at = 0;
    while at < input.len() {
        if ctx.env.stopped() {
            ctx.env.progress.over();
            return Err(HandOnError::Stopped);
        }
        let end = (at + PIECE).min(input.len());
        to.put(at, &input.bytes(at..end, PIECE).map_err(changed)?)?;
        at = end;
        ctx.env.progress.step("copying", at, input.len());
    }
    ctx.env.progress.over();
    Ok(())
}

fn report(
    ctx: &Ctx<'_>,
    request: &Request,
    checked: &CheckReport,
    (file, destination, sha256): (String, Destination, String),
    inventory: &Inventory,
) -> Result<HandOnReport, HandOnError> {
    let says = checked.says.as_ref().ok_or_else(|| HandOnError::NoApp(file.clone()))?;
    let certificate = checked.signers.first().map(|signer| signer.certificate.clone());
    let (runs_on, profile_end) = runs_on(checked, inventory);
    // a device holds an app for iOS to both dates; on Android a certificate's end stops updates alone
    let own_end = certificate.as_ref().map(|own| own.not_after).filter(|_| checked.platform == Platform::Ios);
    Ok(HandOnReport {
        folder: request.to.display().to_string(),
        file,
        size: checked.size,
        sha256,
        app: checked.app.clone(),
        title: checked.title.clone(),
        platform: checked.platform,
        id: says.id.clone(),
        version: says.version.clone(),
        number: says.number.clone(),
        destination,
        certificate,
        runs_on,
        not_after: profile_end.into_iter().chain(own_end).min(),
        warnings: checked.verdict.findings.len(),
        at: ctx.env.now,
    })
}

/// Which devices can run it, and the end of the profile that says so.
fn runs_on(checked: &CheckReport, inventory: &Inventory) -> (RunsOn, Option<Timestamp>) {
    let android = checked.android.as_ref().and_then(|android| android.manifest.as_ref());
    if let Some(manifest) = android {
        return (RunsOn::From(format!("Android SDK {}", manifest.min_sdk)), None);
    }
    let app = checked.ios.as_ref().and_then(|ios| ios.bundles.first());
    let lowest = app.and_then(|app| app.lowest.clone()).unwrap_or_else(|| "any".into());
    let Some(line) = app.and_then(|app| app.profile.as_ref()) else {
        return (RunsOn::From(format!("iOS {lowest}")), None);
    };
    let known = line.item.as_deref().and_then(|name| profile::find(inventory, name).ok());
    let devices = known.map(|(_, facts)| profile::devices(inventory, facts)).unwrap_or_default();
    match line.devices {
        Some(_) => (RunsOn::Listed(devices), line.not_after),
        None => (RunsOn::Company, line.not_after),
    }
}

fn day(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d").to_string()
}

/// The sheet, for whoever gets the folder.
fn sheet(report: &HandOnReport) -> String {
    let row = |label: &str, value: &str| format!("  {label:<12}{value}\n");
    let title = report.title.as_deref().unwrap_or(&report.id);
    let version = report.version.as_deref().unwrap_or("without a version");
    let number = report.number.as_ref().map(|number| format!(" ({number})")).unwrap_or_default();
    let mut text =
        format!("{title} {version}{number}, for {}\n\n{}\n", report.destination.phrase(), report.file);
    text += &row("size", &format!("{} bytes", report.size));
    text += &row("SHA-256", &report.sha256);
    text += &row("", &format!("sha256sum --check {SUMS} compares it"));
    text += &row("is", &format!("{} for {}", report.id, report.platform.title()));
    if let Some(certificate) = &report.certificate {
        text += &row("signed by", &certificate.subject);
    }
    match report.not_after {
        Some(end) => text += &row("runs until", &day(end)),
        None => text += &row("runs until", "no end is known"),
    }
    match &report.runs_on {
        RunsOn::From(system) => text += &row("runs on", &format!("every device from {system} on")),
        RunsOn::Company => text += &row("runs on", "every device of the company"),
        RunsOn::Listed(devices) => {
            text += &row("runs on", "these devices, and no other:");
            for device in devices {
                let title = device.title.as_deref().unwrap_or("without a name here");
                text += &row("", &format!("{title}  {}", device.identifier));
            }
        }
    }
    text + &format!("\nhanded on {}\n", day(report.at))
}
