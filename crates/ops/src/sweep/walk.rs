//! The files below folders, without following links.

use std::fs::{self, File, Metadata};
use std::io::Read;
use std::path::{Path, PathBuf};

use super::{SweepError, shown};
use crate::ctx::Ctx;
use crate::files::FileError;

/// How deep folders are gone into.
const DEEPEST: usize = 64;

/// A file on the way.
pub(super) struct Place {
    pub(super) path: PathBuf,
    pub(super) shown: String,
    pub(super) length: u64,
    pub(super) open_to_others: bool,
}

/// What lies below.
#[derive(Default)]
pub(super) struct Walked {
    pub(super) files: Vec<Place>,
    /// Folders that have a repository in them.
    pub(super) repositories: Vec<PathBuf>,
    pub(super) unreadable: usize,
}

pub(super) fn walk(ctx: &Ctx<'_>, places: &[PathBuf]) -> Result<Walked, SweepError> {
    let mut walked = Walked::default();
    for place in places {
        let path = ctx.path(place);
        let found = fs::symlink_metadata(&path).map_err(|cause| FileError::new("read", &path, cause))?;
        go(ctx, &path, &found, 0, &mut walked)?;
    }
    Ok(walked)
}

fn go(
    ctx: &Ctx<'_>,
    path: &Path,
    found: &Metadata,
    depth: usize,
    into: &mut Walked,
) -> Result<(), SweepError> {
    if ctx.env.stopped() {
        return Err(SweepError::Stopped);
    }
    if found.is_file() {
        into.files.push(Place {
            path: path.to_owned(),
            shown: shown(ctx, path),
            length: found.len(),
            open_to_others: is_open(found),
        });
        return Ok(());
    }
    if !found.is_dir() || depth > DEEPEST {
        return Ok(());
    }
    let Ok(entries) = fs::read_dir(path) else {
        into.unreadable += 1;
        return Ok(());
    };
    let mut entries: Vec<_> = entries.flatten().collect();
    entries.sort_by_key(fs::DirEntry::file_name);
    for entry in entries {
        // what a repository keeps is asked of its own program
        if entry.file_name() == ".git" {
            into.repositories.push(path.to_owned());
            continue;
        }
        match entry.metadata() {
            Ok(below) => go(ctx, &entry.path(), &below, depth + 1, into)?,
            Err(_) => into.unreadable += 1,
        }
    }
    Ok(())
}

/// Whether others on this machine can read it.
#[cfg(unix)]
pub(crate) fn is_open(found: &Metadata) -> bool {
    use std::os::unix::fs::PermissionsExt;
    found.permissions().mode() & 0o004 != 0
}

/// Other systems have other rights, which are not looked at.
#[cfg(not(unix))]
pub(crate) fn is_open(_found: &Metadata) -> bool {
    false
}

/// The first bytes of a file.
pub(super) fn head(path: &Path, most: usize) -> Option<Vec<u8>> {
    let mut file = File::open(path).ok()?;
    let mut bytes = vec![0; most];
    let mut length = 0;
    // one call reads all of it, but for files that give less at a time
    while let Some(rest) = bytes.get_mut(length..).filter(|rest| !rest.is_empty()) {
        match file.read(rest) {
            Ok(0) => break,
            Ok(count) => length += count,
            Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
            Err(_) => return None,
        }
    }
    bytes.truncate(length);
    Some(bytes)
}

/// All of a file, up to so many bytes.
pub(super) fn whole(path: &Path, most: u64) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    File::open(path).ok()?.take(most).read_to_end(&mut bytes).ok()?;
    Some(bytes)
}
