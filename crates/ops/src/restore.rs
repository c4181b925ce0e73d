//! `cabinet restore`: a cabinet from one of its copies.

use std::path::Path;

use ninekeys_cabinet::{Cabinet, CabinetError};
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError};
use crate::project::ProjectError;

/// What was restored.
#[derive(Debug, Serialize)]
pub struct RestoreReport {
    /// The copy.
    pub from: String,
    /// The cabinet.
    pub to: String,
    /// Items in it.
    pub items: usize,
    /// Rows of history in it.
    pub history: usize,
}

/// Why nothing was restored.
#[derive(Debug, Error)]
pub enum RestoreError {
    /// The project file, which says where the cabinet belongs.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The copy could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// There is a cabinet at the place.
    #[error("there is a cabinet at {0} already")]
    Exists(String),
    /// The restored cabinet, when it was read back.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Copies `from` to where the project's cabinet belongs. The copy is unlocked and proved first, and the new
/// cabinet once more before it gets its name.
///
/// # Errors
/// [`RestoreError`]; then everything is as it was.
pub fn restore(ctx: &Ctx<'_>, from: &Path, replace: bool) -> Result<RestoreReport, RestoreError> {
    let target = ctx.cabinet_path()?;
    let show = |path: &Path| path.strip_prefix(&ctx.folder).unwrap_or(path).display().to_string();
    if target.exists() && !replace {
        return Err(RestoreError::Exists(show(&target)));
    }
    let source = ctx.path(from);
    let failed = |cause| OpenError::Cabinet { path: source.clone(), cause };
    let mut copy = Cabinet::open(&source).map_err(failed)?;
    ctx.unlock(&mut copy)?;
    let beside = files::reserve(&target)?;
    let unfinished = beside.path().join("cabinet");
    files::write_whole(&unfinished, b"", files::Access::Owner, false)?;
    let proof = copy.copy_proved(&unfinished)?;
    // logs of the cabinet that goes must not be applied to the one that comes
    if replace {
        for suffix in ["-wal", "-shm"] {
            let mut name = target.clone().into_os_string();
            name.push(suffix);
            let _ = std::fs::remove_file(name);
        }
    }
    files::move_into_place(&unfinished, &target, replace)?;
    Ok(RestoreReport { from: show(&source), to: show(&target), items: proof.items, history: proof.history })
}
