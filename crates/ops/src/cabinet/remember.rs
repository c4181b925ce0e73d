//! `cabinet remember`, `cabinet forget`: what unlocks the cabinet is kept for a while by the operating system, and forgotten.

use jiff::{SignedDuration, Timestamp};
use ninekeys_cabinet::{CabinetError, Digest};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::remembered::{self, NotKept};

/// The longest that it is kept.
const LONGEST: SignedDuration = SignedDuration::from_hours(7 * 24);

/// What is kept.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RememberReport {
    /// The cabinet.
    pub path: String,
    /// Its identity.
    pub identity: Digest,
    /// As whom it is unlocked.
    pub member: String,
    /// Until when.
    pub until: Timestamp,
    /// The time of the answer.
    pub at: Timestamp,
}

/// What is no longer kept.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ForgetReport {
    /// The cabinet.
    pub path: String,
    /// Its identity.
    pub identity: Digest,
    /// Whether anything was kept.
    pub forgotten: bool,
}

/// Why it is not kept.
#[derive(Debug, Error)]
pub enum RememberError {
    /// For too long, or no time at all.
    #[error("it is remembered for a minute to seven days")]
    Time,
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The operating system keeps nothing.
    #[error(transparent)]
    Store(#[from] NotKept),
}

/// Unlocks the cabinet, by what is given or typed and never by what is remembered, and has that kept for so long.
///
/// # Errors
/// [`RememberError`]; then what was remembered before still is.
pub fn remember(ctx: &Ctx<'_>, time: SignedDuration) -> Result<RememberReport, RememberError> {
    if time < SignedDuration::from_mins(1) || time > LONGEST {
        return Err(RememberError::Time);
    }
    let mut cabinet = ctx.open()?;
    ctx.unlock_afresh(&mut cabinet, |cabinet, credential| cabinet.unlock(credential))?;
    let until = ctx.env.now.saturating_add(time).unwrap_or(ctx.env.now);
    remembered::keep(ctx, &cabinet.identity(), &cabinet.key_text(ctx.env.now)?, until)?;
    let member = cabinet.unlocked_by().map(|member| member.label.clone()).unwrap_or_default();
    Ok(RememberReport { path: shown(ctx)?, identity: cabinet.identity(), member, until, at: ctx.env.now })
}

/// Forgets what was remembered of the cabinet.
///
/// # Errors
/// [`OpenError`] when it cannot be said which cabinet is meant.
pub fn forget(ctx: &Ctx<'_>) -> Result<ForgetReport, OpenError> {
    let identity = ctx.open()?.identity();
    Ok(ForgetReport { path: shown(ctx)?, identity, forgotten: remembered::forget(ctx, &identity) })
}

fn shown(ctx: &Ctx<'_>) -> Result<String, OpenError> {
    let path = ctx.cabinet_path()?;
    Ok(path.strip_prefix(&ctx.folder).unwrap_or(&path).display().to_string())
}
