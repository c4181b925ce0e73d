//! `releases`: the ledger of what was signed with what.

use jiff::Timestamp;
use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::ReleaseFacts;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};

/// The ledger.
#[derive(Debug, Serialize)]
pub struct ReleasesReport {
    /// The releases, newest first.
    pub releases: Vec<ReleaseFacts>,
    /// The time of the look.
    pub at: Timestamp,
}

/// Why it could not be read.
#[derive(Debug, Error)]
pub enum ReleasesError {
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet could not be read.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Reads the ledger, of one app if one is named.
///
/// # Errors
/// [`ReleasesError`].
pub fn releases(ctx: &Ctx<'_>, app: Option<&str>) -> Result<ReleasesReport, ReleasesError> {
    let inventory = ctx.open()?.inventory()?;
    let wanted = |release: &&ReleaseFacts| app.is_none_or(|app| release.app == app);
    let mut releases: Vec<ReleaseFacts> = inventory.releases().into_iter().filter(wanted).cloned().collect();
    releases.reverse();
    Ok(ReleasesReport { releases, at: ctx.env.now })
}
