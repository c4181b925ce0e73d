//! `cabinet adopt`: what another copy of the cabinet has and this one lacks.

use std::path::Path;

use ninekeys_cabinet::{Adopted, Cabinet, CabinetError, Forgetful, Trust};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};

/// What was taken in.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AdoptReport {
    /// The other copy.
    pub from: String,
    /// The cabinet.
    pub to: String,
    /// What was taken in, and what stays as it is here.
    #[serde(flatten)]
    pub adopted: Adopted,
}

/// Why nothing was taken in.
#[derive(Debug, Error)]
pub enum AdoptError {
    /// One of the two could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Takes in what `from`, another copy of this cabinet, has and this one lacks. The copy is proved, and not written to.
///
/// # Errors
/// [`AdoptError`]; then the cabinet is as it was.
pub fn adopt(ctx: &Ctx<'_>, from: &Path) -> Result<AdoptReport, AdoptError> {
    let mut cabinet = ctx.open_unlocked()?;
    let source = ctx.path(from);
    let failed = |cause| OpenError::Cabinet { path: source.clone(), cause };
    let trust = Trust { pin: None, memory: &Forgetful };
    let mut copy = Cabinet::open_copy(&source, trust).map_err(failed)?;
    ctx.unlock_with(&mut copy, |copy, credential| copy.unlock_to_look(credential))?;
    let show = |path: &Path| path.strip_prefix(&ctx.folder).unwrap_or(path).display().to_string();
    let what = format!("cabinet adopt {}", show(&source));
    let adopted = cabinet.adopt(&copy, &what, &ctx.env)?;
    Ok(AdoptReport { from: show(&source), to: show(cabinet.path()), adopted })
}
