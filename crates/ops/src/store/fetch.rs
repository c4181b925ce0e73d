//! `deliveries --get`: what devices get of a build, so that it can be checked before they do.

use std::path::PathBuf;

use jiff::Timestamp;
use ninekeys_core::model::ApiUse;
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::{AsDelivered, Store};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::advance::{AdvanceError, find};
use super::{DeliverySaid, said};
use crate::ctx::{Ctx, Notice};
use crate::files::{self, Access, FileError, OutputFile, Taken};
use crate::outgoing::Outgoing;
use crate::outputs::{self, OutputError};
use crate::portal::{ConnectError, with_store};

/// Which build, and where it goes.
#[derive(Debug)]
pub struct Request {
    /// A file, the name that it had, its id at the store, or its number.
    pub build: String,
    /// The file that is written.
    pub to: PathBuf,
    /// Whether a file of that name is replaced.
    pub replace: bool,
}

/// What devices get.
#[derive(Debug, Serialize, JsonSchema)]
pub struct FetchReport {
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The build, as the store tells it.
    #[serde(flatten)]
    pub delivery: DeliverySaid,
    /// The file that was written.
    pub output: String,
    /// Its size in bytes.
    pub output_size: u64,
    /// SHA-256 of it.
    pub output_sha256: String,
    /// Whether these are the bytes that were uploaded: else the store signed them anew.
    pub as_uploaded: bool,
    /// The time of the answer.
    pub at: Timestamp,
}

/// Why it was not fetched.
#[derive(Debug, Error)]
pub enum FetchError {
    /// The build, or the store.
    #[error(transparent)]
    Store(#[from] AdvanceError),
    /// The output would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// What came is not what was announced.
    #[error("what came of {0} is not what the store announced")]
    OtherBytes(String),
    /// The user stopped.
    #[error("it was stopped")]
    Stopped,
}

impl From<ConnectError> for FetchError {
    fn from(error: ConnectError) -> Self {
        Self::Store(error.into())
    }
}

impl From<PortalError> for FetchError {
    fn from(error: PortalError) -> Self {
        Self::Store(error.into())
    }
}

/// Fetches what devices get of a build.
///
/// # Errors
/// [`FetchError`]; then no file is there that was not.
pub fn fetch(ctx: &Ctx<'_>, request: &Request) -> Result<FetchReport, FetchError> {
    let path = ctx.path(&request.to);
    outputs::refuse_ours(ctx, &[&path], &[])?;
    outputs::refuse_taken(ctx, &[&path], request.replace)?;
    let file = ctx.project_file().map_err(AdvanceError::from)?;
    let named = ctx.path(request.build.as_ref());
    let sha256 = if named.is_file() { Some(files::sha256(&named, &ctx.env)?) } else { None };
    let cabinet = ctx.open_unlocked().map_err(AdvanceError::from)?;
    let inventory = cabinet.inventory().map_err(AdvanceError::from)?;
    let random = |_| FileError::new("written", &path, std::io::Error::other("no randomness"));
    let mut scratch = Outgoing::scratch(ctx).map_err(random)?;
    let output = scratch.file(&path, Access::Usual)?;
    let (found, listed, told) = with_store(ctx, &cabinet, &file, (ApiUse::Uploads, None), |store| {
        let listed = store.deliveries()?;
        let found = find(&listed, &request.build, sha256.as_deref())?.clone();
        let told = store.as_delivered(&found.delivery)?;
        take(ctx, store, &told, &output)?;
        Ok::<_, FetchError>((found, listed, told))
    })?;
    if files::sha256(output.path(), &ctx.env)? != told.sha256 {
        return Err(FetchError::OtherBytes(found.file));
    }
    let aside = output.finish(Taken::when_told(request.replace, ctx.env.now))?;
    aside.into_iter().for_each(|path| ctx.notice(Notice::SetAside(path)));
    Ok(FetchReport {
        store: ctx.store.clone(),
        output: request.to.display().to_string(),
        output_size: told.size,
        as_uploaded: told.sha256 == found.sha256,
        output_sha256: told.sha256,
        delivery: said(&found, &listed, &file.project, &inventory.releases()),
        at: ctx.env.now,
    })
}

/// Takes the pieces of it, one after the other.
fn take(ctx: &Ctx<'_>, store: &dyn Store, told: &AsDelivered, output: &OutputFile) -> Result<(), FetchError> {
    for number in 0..told.size.div_ceil(told.piece) {
        if ctx.env.stopped() {
            ctx.env.progress.over();
            return Err(FetchError::Stopped);
        }
        let from = number * told.piece;
        let wanted = told.piece.min(told.size - from);
        let bytes = store.delivered_piece(&told.delivery, number)?;
        if bytes.len() as u64 != wanted {
            return Err(FetchError::OtherBytes(told.delivery.clone()));
        }
        output.put(from, &bytes)?;
        ctx.env.progress.step("fetching", from + wanted, told.size);
    }
    ctx.env.progress.over();
    Ok(())
}
