//! `sign`: a build, signed for its destination, proved, named and written into the ledger. What every platform does the
//! same way is here: opening, planning, proving, naming and recording. How the bytes are made is the platform's own.

mod android;
mod error;
mod idsig;
mod ios;
mod ledger;
mod opened;
mod prove;
mod set;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::android::Schemes;
use ninekeys_core::build::Says;
use ninekeys_core::ios::setup::Roster;
use ninekeys_core::ios::sign::SignError as IosError;
use ninekeys_core::model::{App, Destination, Inventory, ItemId, Name, Platform, Project};
use ninekeys_core::rules::Part;
use schemars::JsonSchema;
use serde::Serialize;

pub use self::error::SignError;
pub use self::ios::{BundleClaims, SignedIos};
use self::ledger::Release;
use self::opened::{Allowed, Loaded, Opened};
use self::prove::Proof;
pub use self::set::Set;
use crate::answers::{CertificateSaid, KeySaid};
use crate::build::background::Background;
use crate::build::check::{self, BuildSubject, CheckReport};
use crate::build::identity_material::Choice;
use crate::build::input::Input;
use crate::build::material::Material;
use crate::ctx::Ctx;
use crate::files::{NewFolders, OutputFile, Taken};
use crate::identity::{self};
use crate::outgoing::{self, Outgoing, Output};
use crate::outputs::{self, Ours, OutputError};
use crate::project::ProjectFile;
use crate::revocation;

/// The builds to be signed.
#[derive(Debug)]
pub struct Request {
    /// The files.
    pub builds: Vec<PathBuf>,
    /// The app it is; found by its id when nothing is said.
    pub app: Option<String>,
    /// Where it goes; the app's first destination when nothing is said.
    pub destination: Option<Destination>,
    /// A store that it goes to, where it is not the one that is meant anyway.
    pub store: Option<String>,
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
    /// What is set in the build.
    pub set: Set,
    /// Whether each signature gets a timestamp, on iOS.
    pub timestamp: bool,
    /// A file with what the app declares, in the place of what it declares otherwise, on iOS.
    pub entitlements: Option<PathBuf>,
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
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The keystore it was signed with, on Android.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keystore: Option<String>,
    /// The key's alias in it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub alias: Option<String>,
    /// The identity it was signed with, on iOS.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub identity: Option<String>,
    /// What was done to a build for iOS.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ios: Option<SignedIos>,
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
    output: Output,
    idsig: Option<(OutputFile, String)>,
    told: Told,
}

/// What is said of it.
struct Told {
    schemes: Vec<String>,
    proof: Proof,
    realigned: usize,
    ios: Option<SignedIos>,
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
    sign_in(ctx, request, None, End::Named)
}

/// Signs as [`sign`] does, in a cabinet that is unlocked already.
///
/// # Errors
/// As [`sign`].
pub(crate) fn sign_with<'c>(
    ctx: &'c Ctx<'_>,
    request: &Request,
    cabinet: &mut Cabinet<'c>,
) -> Result<Vec<SignReport>, SignError> {
    sign_in(ctx, request, Some(cabinet), End::Named)
}

/// Signs and proves as [`sign`] does, in a cabinet that is unlocked already, and throws the outputs away: whether the material
/// would do.
///
/// # Errors
/// [`SignError`].
pub(crate) fn rehearse<'c>(
    ctx: &'c Ctx<'_>,
    request: &Request,
    cabinet: &mut Cabinet<'c>,
) -> Result<Vec<SignReport>, SignError> {
    sign_in(ctx, request, Some(cabinet), End::Dropped)
}

/// What becomes of outputs that are proved.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum End {
    /// They get their names, and rows in the ledger.
    Named,
    /// They go.
    Dropped,
}

fn sign_in<'c>(
    ctx: &'c Ctx<'_>,
    request: &Request,
    unlocked: Option<&mut Cabinet<'c>>,
    end: End,
) -> Result<Vec<SignReport>, SignError> {
    let several = request.builds.len() > 1;
    let of = move |build: &Path, error: SignError| match several {
        true => SignError::Of(build.display().to_string(), Box::new(error)),
        false => error,
    };
    request.set.check()?;
    let inputs = open_all(ctx, request, of)?;
    let file = ctx.project_file()?.at(request.store.as_deref())?;
    let roots = identity::roots(Some(&file))?;
    let project = &file.project;
    let loaded = load_all(&inputs, request, of)?;
    let planned = inputs.iter().zip(&loaded).map(|((build, _, _), loaded)| {
        plan_one(ctx, request, build, project, loaded).map_err(|error| of(build, error))
    });
    let (plans, all_allowed): (Vec<_>, Vec<_>) =
        planned.collect::<Result<Vec<_>, SignError>>()?.into_iter().unzip();
    android::refuse_parts_alone(&plans, &all_allowed, of)?;
    let sources: Vec<&Path> = inputs.iter().map(|(_, path, _)| path.as_path()).collect();
    refuse_targets(ctx, &sources, &plans, request.replace)?;

    let mut opened;
    let cabinet = match unlocked {
        Some(cabinet) => cabinet,
        None => {
            opened = ctx.open_unlocked()?;
            &mut opened
        }
    };
    let inventory = cabinet.inventory()?;
    let background = Background::of(Some(project.clone()), Some(Arc::clone(&inventory)), roots);
    let materials = materials(ctx, request, &file, &background, cabinet, (&plans, &all_allowed), of)?;
    let part =
        |(plan, material): (&Plan<'_>, &Material)| plan.part(vec![material.certificate_said.sha256.clone()]);
    let parts: Vec<Part> = plans.iter().zip(&materials).map(part).collect();

    let folders = NewFolders::make(&ctx.path(&request.to))?;
    let mut ready = Vec::new();
    for (index, ((plan, material), allowed)) in plans.iter().zip(&materials).zip(all_allowed).enumerate() {
        let others = parts.iter().enumerate().filter(|(at, _)| *at != index);
        let others: Vec<Part> = others.map(|(_, part)| part.clone()).collect();
        let job = Job { plan, material };
        let mut outgoing = Outgoing::begin(ctx, cabinet)?;
        let proving = Proving { file: &file, background: &background, request, parts: &others };
        let made = match allowed {
            Allowed::Android(allowed) => android::make(ctx, &job, *allowed, &proving, &mut outgoing),
            Allowed::Ios(opened) => ios::make(ctx, &job, &opened, &proving, &mut outgoing),
        };
        ready.push((job, outgoing, made.map_err(|error| of(plan.build, error))?));
    }
    refuse_changed(&inputs, of)?;
    if end == End::Dropped {
        let told = ready.into_iter().map(|(job, _, made)| report(request, &job, made.told));
        return Ok(told.collect());
    }
    let done = deliver_all(ctx, request, cabinet, &inventory, ready, of);
    // what has its name stays where it is
    if matches!(done, Ok(_) | Err(SignError::Partly { .. })) {
        folders.keep();
    }
    done
}

/// Opens a build, finds out what is to be made of it, and whether that may be.
fn plan_one<'p, 's>(
    ctx: &Ctx<'_>,
    request: &Request,
    build: &'p Path,
    project: &'p Project,
    loaded: &'s Loaded<'s>,
) -> Result<(Plan<'p>, Allowed<'s>), SignError> {
    let opened = Opened::open(loaded)?;
    let was_signed = loaded.was_signed() || opened.is_signed();
    let plan = plan(ctx, request, build, project, (&opened, was_signed))?;
    let allowed = opened.allow(plan.destination, request)?;
    if request.timestamp && project.timestamps.is_none() {
        return Err(SignError::NoTimestamps);
    }
    Ok((plan, allowed))
}

/// A build as it was named, where that is, and what is there.
type Named<'r> = (&'r Path, PathBuf, Input);

fn open_all<'r>(
    ctx: &Ctx<'_>,
    request: &'r Request,
    of: impl Fn(&Path, SignError) -> SignError,
) -> Result<Vec<Named<'r>>, SignError> {
    let open = |build: &'r PathBuf| {
        let path = ctx.path(build);
        let input = Input::open(&path).map_err(|error| of(build, error.into()))?;
        Ok((build.as_path(), path, input))
    };
    request.builds.iter().map(open).collect()
}

fn load_all<'n>(
    inputs: &'n [Named<'_>],
    request: &Request,
    of: impl Fn(&Path, SignError) -> SignError,
) -> Result<Vec<Loaded<'n>>, SignError> {
    let load =
        |(build, _, input): &'n Named<'_>| Loaded::of(input, &request.set).map_err(|error| of(build, error));
    inputs.iter().map(load).collect()
}

/// What was read twice has to have been the same both times.
fn refuse_changed(inputs: &[Named<'_>], of: impl Fn(&Path, SignError) -> SignError) -> Result<(), SignError> {
    for (build, path, input) in inputs {
        input.refuse_changed(path).map_err(|error| of(build, error.into()))?;
    }
    Ok(())
}

/// What signs each build.
fn materials(
    ctx: &Ctx<'_>,
    request: &Request,
    file: &ProjectFile,
    background: &Background,
    cabinet: &Cabinet<'_>,
    jobs: (&[Plan<'_>], &[Allowed<'_>]),
    of: impl Fn(&Path, SignError) -> SignError,
) -> Result<Vec<Material>, SignError> {
    let Some(inventory) = background.inventory.as_deref() else { return Ok(Vec::new()) };
    let (plans, all) = jobs;
    let any_ios = all.iter().any(|one| matches!(one, Allowed::Ios(_)));
    let roster = any_ios.then(|| Roster::of(inventory));
    let learnt = roster
        .as_ref()
        .map(|roster| revocation::learn(ctx, file, inventory, roster, &background.roots, &background.pool));
    let revocations = learnt.transpose()?;
    let named = request.key.as_deref();
    let mut out = Vec::new();
    for (plan, allowed) in plans.iter().zip(all) {
        let chosen = match (allowed, &roster, &revocations) {
            (Allowed::Ios(opened), Some(roster), Some(revocations)) => {
                let choice = Choice {
                    project: &file.project,
                    inventory,
                    roster,
                    roots: &background.roots,
                    pool: &background.pool,
                    revocations,
                    now: ctx.env.now,
                };
                let needs = opened.needs(&request.set);
                choice.take(cabinet, plan.app, plan.destination, &needs, named).map_err(SignError::from)
            }
            _ => Material::choose(
                cabinet,
                inventory,
                (&file.project, ctx.env.now),
                (plan.app.0, plan.destination),
                named,
            )
            .map_err(SignError::from),
        };
        out.push(chosen.map_err(|error| of(plan.build, error))?);
    }
    Ok(out)
}

/// What an output is proved with.
struct Proving<'a> {
    file: &'a ProjectFile,
    background: &'a Background,
    request: &'a Request,
    /// The other builds of the call.
    parts: &'a [Part],
}

impl Proving<'_> {
    fn prove(&self, ctx: &Ctx<'_>, plan: &Plan<'_>, output: &OutputFile) -> Result<Proof, SignError> {
        prove::prove(ctx, output, self.background, &self.subject(plan))
    }

    /// What is known beforehand of an output.
    fn subject<'s>(&'s self, plan: &'s Plan<'_>) -> BuildSubject<'s> {
        BuildSubject {
            file: plan.file.clone(),
            path: plan.build.display().to_string(),
            destination: Some(plan.destination),
            app: Some(plan.app),
            above: None,
            device: None,
            superseded: self.request.replace.then_some(plan.file.as_str()),
            parts: self.parts,
        }
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
    let Made { output, idsig, told } = made;
    let replaces = if request.replace { ledger::known_sha256(ctx, inventory, &plan.target)? } else { None };
    let release = Release {
        app: plan.app.0,
        destination: plan.destination,
        store: ctx.store.as_deref().filter(|_| plan.destination == Destination::Store),
        file: &plan.file,
        build: &told.proof.build,
        sha256: &told.proof.sha256,
        schemes: &told.schemes,
        material,
        replaces: replaces.as_deref(),
    };
    let completes = release.item(ctx, cabinet, inventory);
    // the package last: what stands beside it is nothing without it
    let beside = idsig.map(|(file, digest)| (Output::from(file), Some(digest)));
    let outputs = beside.into_iter().chain([(output, Some(told.proof.sha256.clone()))]).collect();
    let taken = Taken::when_told(request.replace, ctx.env.now);
    let stale = idsig::Stale::set_aside(ctx, &plan.target)?;
    let what = format!("sign {}", plan.file);
    let from: [ItemId; 1] = [material.key_item];
    let delivery = outgoing::Plan { what: &what, purpose: "sign", from: &from, completes: Some(completes) };
    let aside = match outgoing.deliver::<SignError>(ctx, cabinet, delivery, outputs, taken) {
        Ok(aside) => aside,
        Err(error) => {
            match &error {
                // the new one is there all the same
                SignError::Cabinet(CabinetError::Unended(_)) => {
                    stale.into_iter().for_each(|stale| stale.drop_or_name(ctx));
                }
                _ => stale.into_iter().for_each(idsig::Stale::put_back),
            }
            return Err(error);
        }
    };
    stale.into_iter().for_each(|stale| stale.drop_or_name(ctx));
    for path in aside {
        ledger::drop_known(ctx, path, replaces.as_deref());
    }
    Ok(report(request, job, told))
}

fn report(request: &Request, job: &Job<'_>, told: Told) -> SignReport {
    let Told { proof, schemes, realigned, ios } = told;
    let Job { plan, material } = *job;
    let folder = request.to.strip_prefix(".").unwrap_or(&request.to);
    let shown = |file: &str| folder.join(file).display().to_string();
    SignReport {
        output: shown(&plan.file),
        size: proof.check.size,
        app: plan.app.0.to_owned(),
        title: plan.app.1.title.clone(),
        destination: plan.destination,
        store: proof.check.store.clone(),
        keystore: material.alias().map(|_| material.name.clone()),
        alias: material.alias().map(str::to_owned),
        identity: material.identity().map(|_| material.name.clone()),
        ios,
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
    (opened, was_signed): (&Opened<'_>, bool),
) -> Result<Plan<'p>, SignError> {
    let says = opened.says(&request.set);
    if opened.platform() == Platform::Ios {
        request.set.check_ios()?;
    }
    let asked = ctx.destination(request.destination)?;
    let (app, destination) = place(opened, &says, project, (request.app.as_deref(), asked))?;
    let store = project.at_store.as_ref().map(Name::as_str);
    let file = check::file_name_of(app.0, &says, (destination, store), opened.form());
    let target = ctx.path(&request.to).join(&file);
    let idsig = request.idsig.then(|| {
        let place = idsig::beside(&target);
        (check::file_name(&place), place)
    });
    Ok(Plan { build, app, destination, says, was_signed, file, target, idsig })
}

/// Finds out which app a build is and where it goes.
fn place<'p>(
    opened: &Opened<'_>,
    says: &Says,
    project: &'p Project,
    (named, asked): (Option<&str>, Option<Destination>),
) -> Result<((&'p str, &'p App), Destination), SignError> {
    let platform = opened.platform();
    let app = match named {
        Some(wanted) => project.app(wanted).ok_or_else(|| SignError::UnknownApp(wanted.to_owned()))?,
        None => project
            .app_of(platform, &says.id)
            .ok_or_else(|| SignError::UnknownId { platform, id: says.id.clone() })?,
    };
    let first = app.1.side(platform).and_then(|side| side.destinations.first().copied());
    // a bundle is for the store, wherever the app's builds usually go
    let only = check::only_destination_of(opened.form());
    let destination = asked.or(only).or(first);
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
    if targets.iter().any(|target| inputs.iter().any(|input| is_within(input, target))) {
        return Err(SignError::OverInput);
    }
    match outputs::refuse_ours(ctx, &targets, inputs) {
        Err(OutputError::Ours { ours: Ours::Input, .. }) => return Err(SignError::OverInput),
        other => other?,
    }
    outputs::refuse_taken(ctx, &targets, replace).map_err(|error| match error {
        OutputError::Exists(path) => SignError::Exists(path),
        other => other.into(),
    })
}

/// Whether something would be written into a folder that is read, by whatever way it is named; the folders on the way there need not
/// be there yet.
fn is_within(input: &Path, target: &Path) -> bool {
    let Ok(input) = input.canonicalize() else { return false };
    let above = target.ancestors().skip(1).find_map(|folder| match folder.as_os_str().is_empty() {
        true => Path::new(".").canonicalize().ok(),
        false => folder.canonicalize().ok(),
    });
    input.is_dir() && above.is_some_and(|folder| folder.starts_with(input))
}
