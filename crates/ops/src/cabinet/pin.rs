//! `cabinet pin`: a person says which cabinet is meant.

use ninekeys_cabinet::{Cabinet, CabinetError, Digest, Forgetful, Memory, Trust};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// The fewest digits by which somebody says that they compared.
const FEWEST: usize = 16;

/// Which cabinet it is.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PinReport {
    /// Its file.
    pub path: String,
    /// The hash of its first row of history.
    pub identity: Digest,
    /// Its newest row.
    pub row: u64,
    /// Who can unlock it.
    pub members: Vec<String>,
    /// Whether it is pinned now.
    pub pinned: bool,
    /// The project file that says so, if there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
}

/// Why it was not pinned.
#[derive(Debug, Error)]
pub enum PinError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet could not be read.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// Too few digits, or other ones.
    #[error(
        "the cabinet that is there is {found}; that is not what was typed, or fewer than {FEWEST} digits of it"
    )]
    Differs {
        /// The cabinet that is there.
        found: Digest,
    },
}

/// Looks at the cabinet, whatever is known of it; with the beginning of its identity, that one is meant from now on, as
/// it is: the project file pins it, and this machine remembers it.
///
/// # Errors
/// [`PinError`]; then what was meant before still is.
pub fn pin(ctx: &Ctx<'_>, identity: Option<&str>) -> Result<PinReport, PinError> {
    let path = ctx.cabinet_path()?;
    let opened = Cabinet::open(&path, Trust { pin: None, memory: &Forgetful });
    let cabinet = opened.map_err(|cause| OpenError::Cabinet { path: path.clone(), cause })?;
    let found = cabinet.identity();
    let mut report = PinReport {
        path: path.strip_prefix(&ctx.folder).unwrap_or(&path).display().to_string(),
        identity: found,
        row: cabinet.head().seq,
        members: cabinet.status()?.members.into_iter().map(|member| member.label).collect(),
        pinned: false,
        project: None,
    };
    let Some(typed) = identity.map(str::to_ascii_lowercase) else { return Ok(report) };
    if typed.len() < FEWEST || !found.to_string().starts_with(&typed) {
        return Err(PinError::Differs { found });
    }
    if let Some(file) = ctx.project_if_any()? {
        file.set_pin(ctx, &cabinet.pin())?;
        report.project =
            Some(file.path.strip_prefix(&ctx.folder).unwrap_or(&file.path).display().to_string());
    }
    ctx.machine.keep(&path, &found, &cabinet.known());
    report.pinned = true;
    Ok(report)
}
