//! `cabinet backup`: copies that were read back and opened before they count.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::{CabinetError, Proof};
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError, NewFolders};

/// The copies that were made.
#[derive(Debug, Serialize)]
pub struct BackupReport {
    /// The files.
    pub copies: Vec<String>,
    /// Items in each.
    pub items: usize,
    /// Whether a copy is on the same disk as the cabinet.
    pub same_disk: bool,
}

/// Why no copy counts.
#[derive(Debug, Error)]
pub enum BackupError {
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet, or the copy when it was read back.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// A folder cannot be written to.
    #[error(transparent)]
    File(#[from] FileError),
    /// Not a folder.
    #[error("{0} is not a folder")]
    NotAFolder(String),
}

/// Copies the cabinet into every folder. Each copy is written beside its name, opened, proved, and only then
/// named; the cabinet notes them when all are there.
///
/// # Errors
/// [`BackupError`]; copies that were finished before the error stay.
pub fn backup(ctx: &Ctx<'_>, folders: &[PathBuf]) -> Result<BackupReport, BackupError> {
    let mut cabinet = ctx.open_unlocked()?;
    let source = ctx.cabinet_path().map_err(OpenError::from)?;
    let stem =
        source.file_stem().map_or_else(|| "cabinet".into(), |stem| stem.to_string_lossy().into_owned());
    let name = format!("{stem}-{}.cabinet", ctx.env.now.strftime("%Y%m%dT%H%M%SZ"));
    for folder in folders {
        let folder = ctx.path(folder);
        if folder.exists() && !folder.is_dir() {
            return Err(BackupError::NotAFolder(folder.display().to_string()));
        }
    }
    let mut copies = Vec::new();
    // every copy has at least as much as the first: another process may be adding to the cabinet
    let mut proved: Option<Proof> = None;
    for folder in folders {
        let target = ctx.path(folder).join(&name);
        let folders = NewFolders::make(&ctx.path(folder))?;
        let beside = files::reserve(&target)?;
        let unfinished = beside.path().join("copy");
        // made empty and private first, so that no moment shows it to others
        files::write_whole(&unfinished, b"", files::Access::Owner, false)?;
        let proof = cabinet.copy_proved(&unfinished)?;
        proved.get_or_insert(proof);
        files::move_into_place(&unfinished, &target, false)?;
        folders.keep();
        copies.push(folder.join(&name).display().to_string());
    }
    let Proof { items, history } = proved.unwrap_or(Proof { items: 0, history: 0 });
    cabinet.note_backups(&copies, history as u64, &ctx.env)?;
    let same_disk = folders.iter().any(|folder| on_same_disk(&source, &ctx.path(folder)));
    Ok(BackupReport { copies, items, same_disk })
}

#[cfg(unix)]
fn on_same_disk(one: &Path, other: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let device = |path: &Path| std::fs::metadata(path).map(|found| found.dev()).ok();
    device(one).is_some() && device(one) == device(other)
}

#[cfg(not(unix))]
fn on_same_disk(_one: &Path, _other: &Path) -> bool {
    false
}
