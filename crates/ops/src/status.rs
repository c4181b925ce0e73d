//! `cabinet status`: members, history, backups, and how well it is kept.

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, HistoryRow, Member};
use ninekeys_core::model::Facts;
use ninekeys_core::rules::{CabinetLook, Verdict, check_cabinet};
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};

/// The state of the cabinet.
#[derive(Debug, Serialize)]
pub struct StatusReport {
    /// Its file.
    pub path: String,
    /// When it was made.
    pub made: String,
    /// Private keys in it.
    pub keys: usize,
    /// All items in it.
    pub items: usize,
    /// Who can unlock it.
    pub members: Vec<Member>,
    /// Rows of history; the chain is unbroken.
    pub history: usize,
    /// The newest row.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub newest: Option<HistoryRow>,
    /// When the last backup was made, and where.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last_backup: Option<(String, String)>,
    /// Whether seals and facts were proved as well, which takes unlocking.
    pub proved: bool,
    /// How well it is kept.
    pub verdict: Verdict,
    /// The time of the look.
    pub at: Timestamp,
}

/// Why it cannot be told.
#[derive(Debug, Error)]
pub enum StatusError {
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet could not be read, or is not whole.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Looks at the cabinet; with `prove` it is unlocked and every seal opened.
///
/// # Errors
/// [`StatusError`].
pub fn status(ctx: &Ctx<'_>, prove: bool) -> Result<StatusReport, StatusError> {
    let cabinet = if prove { ctx.open_unlocked()? } else { ctx.open()? };
    let path = ctx.cabinet_path().map_err(OpenError::from)?;
    let status = cabinet.status()?;
    let inventory = cabinet.inventory()?;
    let look = CabinetLook { inventory: &inventory, last_backup: cabinet.last_backup()?, now: ctx.env.now };
    Ok(StatusReport {
        path: path.strip_prefix(&ctx.folder).unwrap_or(&path).display().to_string(),
        made: status.made,
        keys: inventory.iter().filter(|item| matches!(item.facts, Facts::Key(_))).count(),
        items: inventory.iter().count(),
        members: status.members,
        history: status.history,
        newest: status.newest,
        last_backup: status.backups.last().map(|backup| (backup.at.clone(), backup.place.clone())),
        proved: prove,
        verdict: check_cabinet(&look),
        at: ctx.env.now,
    })
}
