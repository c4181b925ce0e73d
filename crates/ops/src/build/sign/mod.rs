//! `sign`: a build, signed for its destination, proved, named and written into the ledger. What every platform does the
//! same way is here: opening, planning, proving, naming and recording. How the bytes are made is the platform's own.

mod android;
mod idsig;
mod ledger;
mod prove;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::android::{Schemes, SignError as AndroidError};
use ninekeys_core::build::{Form, Says};
use ninekeys_core::findings::Level;
use ninekeys_core::model::{App, Destination, Inventory, ItemId, Platform, Project};
use ninekeys_core::rules::Part;
use ninekeys_core::stream::DigestError;
use ninekeys_formats::limits::Limits;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use self::ledger::Release;
use self::prove::Proof;
use crate::answers::{CertificateSaid, KeySaid};
use crate::build::check::{self, Background, BuildSubject, CheckError, CheckReport};
use crate::build::material::{Material, SignerError};
use crate::ctx::{Ctx, OpenError};
use crate::files::{FileError, InputFile, NewFolders, OutputFile, Taken};
use crate::outgoing::{self, Outgoing};
use crate::outputs::{self, Ours, OutputError};
use crate::project::ProjectError;

/// The builds to be signed.
#[derive(Debug)]
pub struct Request {
    /// The files.
    pub builds: Vec<PathBuf>,
    /// The app it is; found by its id when nothing is said.
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
#[derive(Debug, Serialize, JsonSchema)]
pub struct SignReport {
    /// The output, as the user would write its path.
    pub output: String,
    /// Its size in bytes.
    pub size: u64,
    /// The app's name.
    pub app: String,
    /// What people call the app.
    pub title: String,
    /// Where it goes.
    pub destination: Destination,
    /// The keystore it was signed with.
    pub keystore: String,
    /// The key's alias in it.
    pub alias: String,
    /// The key that signed.
    pub key: KeySaid,
    /// The certificate that it signed under.
    pub certificate: CertificateSaid,
    /// SHA-256 over the output.
    pub sha256: String,
    /// The file of scheme v4 beside it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub idsig: Option<String>,
    /// The signature schemes, on Android.
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
    /// An Android build could not be read, or is refused.
    #[error(transparent)]
    Android(#[from] AndroidError),
    /// Reading or writing failed, or the user stopped.
    #[error(transparent)]
    Digest(#[from] DigestError),
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
    /// No app with the build's id.
    #[error("the project file has no app with the {} {id}", platform.id_word())]
    UnknownId {
        /// What the build is made for.
        platform: Platform,
        /// Its package or bundle id.
        id: String,
    },
    /// The app goes nowhere.
    #[error("the project file names no destination for {0}")]
    NoDestination(String),
    /// A destination that its platform does not have.
    #[error("an {} build is signed for {}, not for {destination}", platform.title(), places(*platform))]
    Destination {
        /// What the build is made for.
        platform: Platform,
        /// What was asked for.
        destination: Destination,
    },
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

fn places(platform: Platform) -> String {
    let all: Vec<String> = platform.destinations().iter().map(ToString::to_string).collect();
    match all.split_last() {
        Some((last, others)) => format!("{} or {last}", others.join(", ")),
        None => String::new(),
    }
}

fn errors(report: &CheckReport) -> String {
    let errors = report.verdict.findings.iter().filter(|finding| finding.level == Level::Error);
    let texts: Vec<String> = errors.map(|finding| format!("{} ({})", finding.text, finding.rule)).collect();
    texts.join("; ")
}

/// A build that was opened, of one platform or another.
enum Opened<'s> {
    Android(android::Opened<'s>),
}

impl<'s> Opened<'s> {
    fn open(input: &'s InputFile) -> Result<Self, SignError> {
        Ok(Opened::Android(android::Opened::open(input, &Limits::USUAL)?))
    }

    fn platform(&self) -> Platform {
        match self {
            Opened::Android(_) => Platform::Android,
        }
    }

    fn form(&self) -> Form {
        match self {
            Opened::Android(opened) => Form::Android(opened.kind()),
        }
    }

    fn says(&self) -> Says {
        match self {
            Opened::Android(opened) => ninekeys_core::android::says(opened.manifest()),
        }
    }

    fn is_signed(&self) -> bool {
        match self {
            Opened::Android(opened) => opened.is_signed(),
        }
    }
}

/// What is to be made, and where.
struct Plan<'p> {
    /// The build, as it was named.
    build: &'p Path,
    app: (&'p str, &'p App),
    destination: Destination,
    says: Says,
    was_signed: bool,
    file: String,
    target: PathBuf,
    /// The file of scheme v4 and its place, where it is wanted.
    idsig: Option<(String, PathBuf)>,
}

impl Plan<'_> {
    /// What others have to know of its output to be parts of one package with it.
    fn part(&self, certificates: Vec<String>) -> Part {
        Part {
            file: self.file.clone(),
            id: self.says.id.clone(),
            part: self.says.part.clone(),
            number: self.says.number(),
            certificates,
        }
    }
}

/// What was made, under temporary names.
struct Made {
    output: OutputFile,
    idsig: Option<(OutputFile, String)>,
    schemes: Vec<String>,
    proof: Proof,
    realigned: usize,
}

/// One build of a call, and what it is signed with.
struct Job<'p> {
    plan: &'p Plan<'p>,
    material: &'p Material,
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
        let planned = Opened::open(input).and_then(|opened| {
            let plan = plan(ctx, request, build, &project, &opened)?;
            let allowed = android::allow(opened, plan.destination)?;
            Ok((plan, allowed))
        });
        let (plan, allowed) = planned.map_err(|error| of(build, error))?;
        plans.push(plan);
        all_allowed.push(allowed);
    }
    android::refuse_parts_alone(&plans, &all_allowed, of)?;
    let sources: Vec<&Path> = inputs.iter().map(|(_, path, _)| path.as_path()).collect();
    refuse_targets(ctx, &sources, &plans, request.replace)?;

    let mut cabinet = ctx.open_unlocked()?;
    let inventory = cabinet.inventory()?;
    let mut materials = Vec::new();
    for plan in &plans {
        let material =
            Material::choose(&cabinet, &inventory, plan.app.0, plan.destination, request.key.as_deref());
        materials.push(material.map_err(|error| of(plan.build, error.into()))?);
    }
    let parts: Vec<Part> = plans
        .iter()
        .zip(&materials)
        .map(|(plan, material)| plan.part(vec![material.certificate_said.sha256.clone()]))
        .collect();

    let folders = NewFolders::make(&ctx.path(&request.to))?;
    let background = Background { project: Some(project.clone()), inventory: Some(Arc::clone(&inventory)) };
    let mut ready = Vec::new();
    for (index, ((plan, material), allowed)) in plans.iter().zip(&materials).zip(all_allowed).enumerate() {
        let others = parts.iter().enumerate().filter(|(at, _)| *at != index);
        let others: Vec<Part> = others.map(|(_, part)| part.clone()).collect();
        let job = Job { plan, material };
        let mut outgoing = Outgoing::begin(ctx, &cabinet)?;
        let proving = Proving { background: &background, request, parts: &others };
        let made = android::make(ctx, &job, allowed, &proving, &mut outgoing);
        ready.push((job, outgoing, made.map_err(|error| of(plan.build, error))?));
    }
    let done = deliver_all(ctx, request, &mut cabinet, &inventory, ready, of);
    // what has its name stays where it is
    if matches!(done, Ok(_) | Err(SignError::Partly { .. })) {
        folders.keep();
    }
    done
}

/// What an output is proved with.
struct Proving<'a> {
    background: &'a Background,
    request: &'a Request,
    /// The other builds of the call.
    parts: &'a [Part],
}

impl Proving<'_> {
    fn prove(&self, ctx: &Ctx<'_>, plan: &Plan<'_>, output: &OutputFile) -> Result<Proof, SignError> {
        let subject = BuildSubject {
            file: plan.file.clone(),
            path: plan.build.display().to_string(),
            destination: Some(plan.destination),
            app: Some(plan.app),
            above: None,
            superseded: self.request.replace.then_some(plan.file.as_str()),
            parts: self.parts,
        };
        prove::prove(ctx, output, self.background, &subject)
    }
}

fn deliver_all(
    ctx: &Ctx<'_>,
    request: &Request,
    cabinet: &mut Cabinet<'_>,
    inventory: &Inventory,
    ready: Vec<(Job<'_>, Outgoing, Made)>,
    of: impl Fn(&Path, SignError) -> SignError,
) -> Result<Vec<SignReport>, SignError> {
    let mut reports: Vec<SignReport> = Vec::new();
    for (job, outgoing, made) in ready {
        let build = job.plan.build;
        match deliver(ctx, request, cabinet, inventory, &job, made, outgoing) {
            Ok(report) => reports.push(report),
            Err(error) if reports.is_empty() => return Err(of(build, error)),
            Err(error) => {
                let done = reports.into_iter().map(|report| report.output).collect();
                return Err(SignError::Partly { done, cause: Box::new(of(build, error)) });
            }
        }
    }
    Ok(reports)
}

/// Gives what was made its names, with a row of history before and the release in the ledger behind.
fn deliver(
    ctx: &Ctx<'_>,
    request: &Request,
    cabinet: &mut Cabinet<'_>,
    inventory: &Inventory,
    job: &Job<'_>,
    made: Made,
    outgoing: Outgoing,
) -> Result<SignReport, SignError> {
    let Job { plan, material } = *job;
    let replaces = if request.replace { ledger::known_sha256(ctx, inventory, &plan.target)? } else { None };
    let release = Release {
        app: plan.app.0,
        destination: plan.destination,
        file: &plan.file,
        build: &made.proof.build,
        sha256: &made.proof.sha256,
        schemes: &made.schemes,
        material,
        replaces: replaces.as_deref(),
    };
    let completes = release.item(ctx, cabinet, inventory);
    // the package last: what stands beside it is nothing without it
    let beside = made.idsig.map(|(file, digest)| (file, Some(digest)));
    let outputs = beside.into_iter().chain([(made.output, Some(made.proof.sha256.clone()))]).collect();
    let taken = Taken::when_told(request.replace, ctx.env.now);
    let stale = idsig::Stale::set_aside(ctx, &plan.target)?;
    let what = format!("sign {}", plan.file);
    let from: [ItemId; 1] = [material.key_item];
    let delivery = outgoing::Plan { what: &what, purpose: "sign", from: &from, completes: Some(completes) };
    let aside = match outgoing.deliver::<SignError>(ctx, cabinet, delivery, outputs, taken) {
        Ok(aside) => aside,
        Err(error) => {
            stale.into_iter().for_each(idsig::Stale::put_back);
            return Err(error);
        }
    };
    stale.into_iter().for_each(|stale| stale.drop_or_name(ctx));
    for path in aside {
        ledger::drop_known(ctx, path, replaces.as_deref());
    }
    Ok(report(request, job, made.proof, made.schemes, made.realigned))
}

fn report(
    request: &Request,
    job: &Job<'_>,
    proof: Proof,
    schemes: Vec<String>,
    realigned: usize,
) -> SignReport {
    let Job { plan, material } = *job;
    let folder = request.to.strip_prefix(".").unwrap_or(&request.to);
    let shown = |file: &str| folder.join(file).display().to_string();
    SignReport {
        output: shown(&plan.file),
        size: proof.check.size,
        app: plan.app.0.to_owned(),
        title: plan.app.1.title.clone(),
        destination: plan.destination,
        keystore: material.name.clone(),
        alias: material.alias.clone(),
        key: material.key_said.clone(),
        certificate: material.certificate_said.clone(),
        sha256: proof.sha256,
        idsig: plan.idsig.as_ref().map(|(file, _)| shown(file)),
        schemes,
        was_signed: plan.was_signed,
        realigned,
        check: proof.check,
    }
}

/// Finds out what the build is, where it goes, and what the output is called.
fn plan<'p>(
    ctx: &Ctx<'_>,
    request: &Request,
    build: &'p Path,
    project: &'p Project,
    opened: &Opened<'_>,
) -> Result<Plan<'p>, SignError> {
    let says = opened.says();
    let (app, destination) = place(opened, &says, project, request)?;
    let file = check::file_name_of(app.0, &says, destination, opened.form());
    let target = ctx.path(&request.to).join(&file);
    let idsig = request.idsig.then(|| {
        let place = idsig::beside(&target);
        (check::file_name(&place), place)
    });
    Ok(Plan { build, app, destination, says, was_signed: opened.is_signed(), file, target, idsig })
}

/// Finds out which app a build is and where it goes.
fn place<'p>(
    opened: &Opened<'_>,
    says: &Says,
    project: &'p Project,
    request: &Request,
) -> Result<((&'p str, &'p App), Destination), SignError> {
    let platform = opened.platform();
    let app = match &request.app {
        Some(wanted) => project.app(wanted).ok_or_else(|| SignError::UnknownApp(wanted.clone()))?,
        None => project
            .app_of(platform, &says.id)
            .ok_or_else(|| SignError::UnknownId { platform, id: says.id.clone() })?,
    };
    let first = app.1.side(platform).and_then(|side| side.destinations.first().copied());
    // a bundle is for the store, wherever the app's builds usually go
    let only = check::only_destination_of(opened.form());
    let destination = request.destination.or(only).or(first);
    let destination = destination.ok_or_else(|| SignError::NoDestination(app.1.title.clone()))?;
    if !platform.has(destination) {
        return Err(SignError::Destination { platform, destination });
    }
    Ok((app, destination))
}

fn refuse_targets(
    ctx: &Ctx<'_>,
    inputs: &[&Path],
    plans: &[Plan<'_>],
    replace: bool,
) -> Result<(), SignError> {
    let targets: Vec<&Path> = plans
        .iter()
        .flat_map(|plan| {
            std::iter::once(plan.target.as_path()).chain(plan.idsig.iter().map(|(_, path)| path.as_path()))
        })
        .collect();
    match outputs::refuse_ours(ctx, &targets, inputs) {
        Err(OutputError::Ours { ours: Ours::Input, .. }) => return Err(SignError::OverInput),
        other => other?,
    }
    outputs::refuse_taken(ctx, &targets, replace).map_err(|error| match error {
        OutputError::Exists(path) => SignError::Exists(path),
        other => other.into(),
    })
}
