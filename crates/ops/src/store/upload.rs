//! `upload`: a build that is ready goes to the store, in pieces, once.

use std::path::PathBuf;
use std::sync::mpsc::{SyncSender, sync_channel};

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::digest::sha256;
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::model::{ApiUse, BuildNumber, Destination, Inventory, Platform};
use ninekeys_core::stream::{DigestError, source_sha256};
use ninekeys_formats::source::{ReadError, Source};
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::{Delivery, NewUpload, Store};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::raise::{self, Raised};
use super::{DeliverySaid, StoreRefusal, foresee, meant, note, refusal, said};
use crate::build::check::{self, CheckError, CheckReport, file_name};
use crate::build::sign::SignError;
use crate::ctx::{Ctx, OpenError};
use crate::files::{FileError, InputFile};
use crate::portal::{ConnectError, with_store};
use crate::project::ProjectError;

/// What is to be uploaded.
#[derive(Debug)]
pub struct Request {
    /// The build.
    pub build: PathBuf,
    /// The app that it has to be, when it does not say.
    pub app: Option<String>,
    /// Whether a build whose number is taken gets the next one, and is signed with it.
    pub next: bool,
}

/// What came of it.
#[derive(Debug)]
pub enum Outcome {
    /// The store has it.
    Delivered(Box<UploadReport>),
    /// It is not ready: nothing was sent.
    NotReady(Box<CheckReport>),
}

/// A build that the store has.
#[derive(Debug, Serialize, JsonSchema)]
pub struct UploadReport {
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The build, as the store tells it.
    #[serde(flatten)]
    pub delivery: DeliverySaid,
    /// How many bytes were sent in this call.
    pub sent: u64,
    /// How many were there from an earlier one.
    pub resumed: u64,
    /// What it was before it was signed with another number.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub raised: Option<Raised>,
    /// How many findings the check had that are no errors.
    pub warnings: usize,
    /// The time of the answer.
    pub at: Timestamp,
}

/// Why it is not at the store.
#[derive(Debug, Error)]
pub enum UploadError {
    /// The check before it.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// Signing it with the next number.
    #[error(transparent)]
    Sign(#[from] SignError),
    /// The build.
    #[error(transparent)]
    File(#[from] FileError),
    /// A folder is no build that a store takes.
    #[error("{0} is a folder; a store takes an APK, a bundle or an IPA")]
    AFolder(String),
    /// The build says no id, or another app's.
    #[error("nothing says which app of the project file {0} is")]
    NoApp(String),
    /// It was signed for another of the stores.
    #[error("{build} was signed for {}, and not for {}", of_several(signed_for.as_deref()), of_several(wanted.as_deref()))]
    ForAnotherStore {
        /// The build, as it was named.
        build: String,
        /// Which store, by its name.
        signed_for: Option<String>,
        /// The one that is meant.
        wanted: Option<String>,
    },
    /// The file was changed while it was read.
    #[error("{0} was changed meanwhile")]
    Changed(String),
    /// The user stopped; what was sent is at the store, and the next call goes on from there.
    #[error("it was stopped")]
    Stopped,
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The store cannot be asked.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The store did not answer as it should.
    #[error(transparent)]
    Store(PortalError),
    /// The store does not take it.
    #[error("{refusal}")]
    Refused {
        /// The build, as it was named.
        build: String,
        /// Its app.
        app: String,
        /// By which rule.
        #[source]
        refusal: Box<StoreRefusal>,
    },
}

/// One of several stores, by its name.
fn of_several(store: Option<&str>) -> &str {
    store.unwrap_or("the store that stands with the portal")
}

/// Checks a build for the store, and sends it there when nothing speaks against it. An upload that was cut off goes on where it was.
///
/// # Errors
/// [`UploadError`]; then the store has no new build.
pub fn upload(ctx: &Ctx<'_>, request: &Request) -> Result<Outcome, UploadError> {
    let path = ctx.path(&request.build);
    if path.is_dir() {
        return Err(UploadError::AFolder(request.build.display().to_string()));
    }
    if !request.next {
        return deliver(ctx, request, None, None);
    }
    let checked = check_for_store(ctx, request)?;
    let mut cabinet = ctx.open_unlocked()?;
    let (build, raised) = raise::raise(ctx, request, &checked, &mut cabinet)?;
    let request = Request { build, app: request.app.clone(), next: false };
    deliver(ctx, &request, Some(cabinet), raised)
}

fn check_for_store(ctx: &Ctx<'_>, request: &Request) -> Result<CheckReport, UploadError> {
    let wanted = check::Request {
        build: request.build.clone(),
        destination: Some(Destination::Store),
        app: request.app.clone(),
        above: None,
        device: None,
        ask_store: false,
    };
    let checked = check::check(ctx, std::slice::from_ref(&wanted))?;
    let checked = checked.into_iter().next().ok_or_else(|| UploadError::NoApp(file_name(&request.build)))?;
    Ok(checked.outcome?)
}

fn deliver<'c>(
    ctx: &'c Ctx<'_>,
    request: &Request,
    unlocked: Option<Cabinet<'c>>,
    raised: Option<Raised>,
) -> Result<Outcome, UploadError> {
    let path = ctx.path(&request.build);
    // what is sent, what is hashed and what is checked is one file, as it is now
    let input = InputFile::open(&path)?;
    let quiet = Env { progress: &Silent, ..ctx.env };
    let mut hash = Err(DigestError::Stopped);
    // in the pool that checks: the two share the cores, and neither waits for the other
    let checked = rayon::in_place_scope(|scope| {
        scope.spawn(|_| hash = source_sha256(&input, &quiet));
        check_for_store(ctx, request)
    })?;
    if !checked.verdict.is_ready() {
        return Ok(Outcome::NotReady(Box::new(checked)));
    }
    let sha256 = hash.map_err(|error| match error {
        DigestError::Stopped => UploadError::Stopped,
        _ => UploadError::Changed(file_name(&path)),
    })?;
    input.refuse_changed(&path)?;
    input.refuse_other(&path)?;
    let no_app = || UploadError::NoApp(file_name(&path));
    let app = checked.app.clone().ok_or_else(no_app)?;
    let id = checked.says.as_ref().map(|says| says.id.clone()).ok_or_else(no_app)?;
    let file = ctx.project_file()?;
    let mut cabinet = match unlocked {
        Some(cabinet) => cabinet,
        None => ctx.open_unlocked()?,
    };
    let new = NewUpload { id, platform: checked.platform, file: file_name(&path), size: input.len(), sha256 };
    refuse_elsewhere(ctx, request, &*cabinet.inventory()?, &new.sha256)?;
    // what leaves is written down first
    let what = format!("upload of {} to {}", new.file, meant(ctx));
    cabinet.change(&what, &ctx.env, |_| Ok::<_, CabinetError>(()))?;
    let (delivery, all, sent, resumed) =
        with_store(ctx, &cabinet, &file, (ApiUse::Uploads, Some(&app)), |store| {
            let refused = |refusal| {
                let build = request.build.display().to_string();
                UploadError::Refused { build, app: app.clone(), refusal: Box::new(refusal) }
            };
            let failed = |error| refusal(error).map_or_else(UploadError::Store, refused);
            match foreseen(ctx, store, &new, &checked).map_err(failed)? {
                Some(refusal) => Err(refused(refusal)),
                None => send(ctx, store, &new, &input, failed),
            }
        })?;
    let what = format!("{} is at {}, number {}", delivery.file, meant(ctx), delivery.number);
    // the store has it, whether or not that can be written down now
    let _ =
        note(ctx, &mut cabinet, &what, (&delivery.sha256, Destination::Store), |facts| &mut facts.uploaded);
    let inventory = cabinet.inventory()?;
    let report = UploadReport {
        store: ctx.store.clone(),
        delivery: said(&delivery, &all, &file.project, &inventory.releases()),
        sent,
        resumed,
        raised,
        warnings: checked.verdict.findings.len(),
        at: ctx.env.now,
    };
    Ok(Outcome::Delivered(Box::new(report)))
}

/// What the ledger has for other stores alone goes to none of this name: its row would say nothing of it.
fn refuse_elsewhere(
    ctx: &Ctx<'_>,
    request: &Request,
    inventory: &Inventory,
    sha256: &str,
) -> Result<(), UploadError> {
    let releases = inventory.releases();
    let these = releases.iter().filter(|one| one.sha256 == sha256 && one.destination == Destination::Store);
    let stores: Vec<&Option<String>> = these.map(|one| &one.store).collect();
    match stores.first() {
        Some(first) if !stores.contains(&&ctx.store) => Err(UploadError::ForAnotherStore {
            build: request.build.display().to_string(),
            signed_for: (*first).clone(),
            wanted: ctx.store.clone(),
        }),
        _ => Ok(()),
    }
}

/// What the store will say against it at the end of the upload, by what it says now: a refusal costs nothing then.
fn foreseen(
    ctx: &Ctx<'_>,
    store: &dyn Store,
    new: &NewUpload,
    checked: &CheckReport,
) -> Result<Option<StoreRefusal>, PortalError> {
    let all = store.deliveries()?;
    // that it is there already is said by the store, whatever else would speak against it
    if all.iter().any(|one| one.sha256 == new.sha256) {
        return Ok(None);
    }
    let says = checked.says.as_ref();
    let version = says.and_then(|says| says.version.clone()).unwrap_or_default();
    let number = says.and_then(|says| says.number.clone()).unwrap_or(BuildNumber::ZERO);
    let build =
        foresee::Candidate { platform: new.platform, id: &new.id, version: &version, number: &number };
    if new.platform == Platform::Android {
        let signer = checked.signers.first().map(|signer| signer.certificate.sha256.as_str());
        let (held, is_bundle) = (store.keys(&new.id)?, checked.form.ending() == "aab");
        let refusal =
            foresee::refusal_by_signer(held.as_ref(), is_bundle, signer.unwrap_or_default(), ctx.env.now);
        if refusal.is_some() {
            return Ok(refusal);
        }
    }
    Ok(foresee::refusal_by_number(&all, &build))
}

/// A piece of a file, before it is sent.
struct Piece {
    number: u64,
    bytes: Vec<u8>,
    digest: Vec<u8>,
}

/// Reads the pieces from one on, each with its digest, until they are not wanted any more.
fn read_ahead(input: &InputFile, (from, piece): (u64, u64), ready: &SyncSender<Result<Piece, ReadError>>) {
    for number in from..input.len().div_ceil(piece) {
        let end = (number + 1).saturating_mul(piece).min(input.len());
        let read = input.bytes(number * piece..end, piece);
        let made = read.map(|bytes| Piece { number, digest: sha256(&bytes).to_vec(), bytes });
        let is_last = made.is_err();
        if ready.send(made).is_err() || is_last {
            return;
        }
    }
}

/// What the store has of it then, everything that it has, and how much was sent and was there.
type Sent = (Delivery, Vec<Delivery>, u64, u64);

fn send(
    ctx: &Ctx<'_>,
    store: &dyn Store,
    new: &NewUpload,
    input: &InputFile,
    failed: impl Fn(PortalError) -> UploadError,
) -> Result<Sent, UploadError> {
    const WHAT: &str = "uploading";
    let begun = store.begin(new).map_err(&failed)?;
    let resumed = (begun.received * begun.piece).min(new.size);
    let mut sent = 0;
    std::thread::scope(|scope| {
        // the next piece is read and hashed while one is on its way
        let (ready, pieces) = sync_channel(1);
        scope.spawn(move || read_ahead(input, (begun.received, begun.piece), &ready));
        for read in pieces {
            if ctx.env.stopped() {
                return Err(UploadError::Stopped);
            }
            let piece = read.map_err(|_| UploadError::Changed(new.file.clone()))?;
            store.send(&new.sha256, piece.number, (&piece.bytes, &piece.digest)).map_err(&failed)?;
            sent += piece.bytes.len() as u64;
            ctx.env.progress.step(WHAT, resumed + sent, new.size);
        }
        Ok(())
    })
    .inspect_err(|_| ctx.env.progress.over())?;
    ctx.env.progress.over();
    let delivery = store.complete(&begun.upload).map_err(&failed)?;
    Ok((delivery, store.deliveries().map_err(&failed)?, sent, resumed))
}
