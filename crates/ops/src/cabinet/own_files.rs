//! How the cabinet and what unlocks it lie on the disk.

use std::path::{Path, PathBuf};

use ninekeys_core::rules::OwnFile;

use crate::ctx::{Ctx, OpenError};
use crate::sweep::{is_open, is_tracked};

/// The cabinet, and the unlock file that the project or the command names.
///
/// # Errors
/// [`OpenError`] when it cannot be said which they are.
pub(crate) fn own_files(ctx: &Ctx<'_>) -> Result<Vec<OwnFile>, OpenError> {
    let project = ctx.project_if_any()?;
    let named = project.and_then(|file| file.project.unlock_file.as_ref().map(|named| file.resolve(named)));
    let mut unlocking: Vec<PathBuf> = named.into_iter().collect();
    unlocking.extend(ctx.ask.secret_files().iter().map(|file| ctx.path(file)));
    unlocking.dedup();
    let cabinet = (ctx.cabinet_path()?, false);
    let all = std::iter::once(cabinet).chain(unlocking.into_iter().map(|path| (path, true)));
    Ok(all.filter_map(|(path, unlocks)| own_file(ctx, &path, unlocks)).collect())
}

fn own_file(ctx: &Ctx<'_>, path: &Path, unlocks: bool) -> Option<OwnFile> {
    let found = std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file)?;
    Some(OwnFile {
        path: path.strip_prefix(&ctx.folder).unwrap_or(path).display().to_string(),
        unlocks,
        open_to_others: is_open(&found),
        in_repository: unlocks && is_tracked(path),
    })
}
