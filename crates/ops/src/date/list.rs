//! `date list`: the dates that are kept beside the keys; nothing is unlocked.

use jiff::Timestamp;
use ninekeys_cabinet::Look;
use ninekeys_core::model::Policy;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{DateSaid, all, said};
use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// The dates.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DateListReport {
    /// The dates, the first one first.
    pub dates: Vec<DateSaid>,
    /// The time of the look.
    pub at: Timestamp,
}

/// Why they cannot be told.
#[derive(Debug, Error)]
pub enum DateListError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
}

/// Lists the dates.
///
/// # Errors
/// [`DateListError`].
pub fn date_list(ctx: &Ctx<'_>) -> Result<DateListReport, DateListError> {
    let Look { inventory, .. } = ctx.look()?;
    let policy = ctx.project_if_any()?.map_or_else(Policy::default, |file| file.project.policy);
    let now = ctx.env.now;
    let dates = all(&inventory).into_iter().map(|(item, facts)| said(&item.name, facts, &policy, now));
    Ok(DateListReport { dates: dates.collect(), at: now })
}
