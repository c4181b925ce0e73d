//! What a command is about to write never falls on something of ours: the cabinet and what lies beside it, an unlock
//! file, the project file, an input, another output of the same call; by no link and no spelling.

use std::ffi::OsString;
use std::fs;
use std::path::{Path, PathBuf};

use thiserror::Error;

use crate::ctx::Ctx;
use crate::files;

/// What an output would fall on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ours {
    /// The cabinet.
    Cabinet,
    /// A file that the database keeps beside it.
    BesideCabinet,
    /// The project file.
    Project,
    /// A file that unlocks.
    UnlockFile,
    /// Something that this call reads.
    Input,
    /// Something else that this call writes.
    Output,
}

impl Ours {
    fn words(self) -> &'static str {
        match self {
            Ours::Cabinet => "it is the cabinet",
            Ours::BesideCabinet => "it is a file that belongs to the cabinet",
            Ours::Project => "it is the project file",
            Ours::UnlockFile => "it unlocks the cabinet",
            Ours::Input => "this command reads it",
            Ours::Output => "this command writes something else there",
        }
    }
}

/// An output that cannot be written where it was asked for.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum OutputError {
    /// It would destroy something of ours.
    #[error("nothing is written to {path}: {}", ours.words())]
    Ours {
        /// As the user wrote it.
        path: String,
        /// What it is.
        ours: Ours,
    },
    /// The name is taken.
    #[error("{0} exists already")]
    Exists(String),
}

/// A file, whatever it is called: its folder as it really is and its name; and what the system knows it by.
struct Place {
    folder: PathBuf,
    name: OsString,
    file: Option<(u64, u64)>,
}

impl Place {
    fn of(path: &Path) -> Self {
        let folder = files::folder_of(path);
        let file = identity(path);
        // a link that leads nowhere yet is where it leads to
        let path = fs::read_link(path).map_or_else(|_| path.to_owned(), |to| folder.join(to));
        let folder = files::folder_of(&path);
        Place {
            folder: folder.canonicalize().unwrap_or_else(|_| folder.to_owned()),
            name: path.file_name().unwrap_or_default().to_owned(),
            file,
        }
    }

    fn is(&self, other: &Place) -> bool {
        // a file system may not tell small letters from large ones: what only that would tell apart is the same
        let same_name = self.name.eq_ignore_ascii_case(&other.name);
        (same_name && self.folder == other.folder) || (self.file.is_some() && self.file == other.file)
    }
}

#[cfg(unix)]
fn identity(path: &Path) -> Option<(u64, u64)> {
    use std::os::unix::fs::MetadataExt;
    fs::metadata(path).ok().map(|found| (found.dev(), found.ino()))
}

#[cfg(not(unix))]
fn identity(path: &Path) -> Option<(u64, u64)> {
    use std::hash::{DefaultHasher, Hash, Hasher};
    let whole = path.canonicalize().ok()?;
    let mut hasher = DefaultHasher::new();
    whole.to_string_lossy().to_lowercase().hash(&mut hasher);
    Some((0, hasher.finish()))
}

/// Refuses outputs that would fall on something of ours, or on each other.
///
/// # Errors
/// [`OutputError::Ours`].
pub(crate) fn refuse_ours(ctx: &Ctx<'_>, outputs: &[&Path], inputs: &[&Path]) -> Result<(), OutputError> {
    let mut known: Vec<(Place, Ours)> = Vec::new();
    let mut know = |path: &Path, ours| known.push((Place::of(path), ours));
    if let Ok(cabinet) = ctx.cabinet_path() {
        let real = cabinet.canonicalize().unwrap_or_else(|_| cabinet.clone());
        for suffix in ["-journal", "-wal", "-shm"] {
            for path in [&cabinet, &real] {
                let mut beside = path.as_os_str().to_owned();
                beside.push(suffix);
                know(Path::new(&beside), Ours::BesideCabinet);
            }
        }
        know(&cabinet, Ours::Cabinet);
    }
    if let Ok(Some(file)) = ctx.project_if_any() {
        know(&file.path, Ours::Project);
        if let Some(named) = &file.project.unlock_file {
            know(&file.resolve(named), Ours::UnlockFile);
        }
    }
    ctx.ask.secret_files().iter().for_each(|path| know(&ctx.path(path), Ours::UnlockFile));
    inputs.iter().for_each(|path| know(path, Ours::Input));
    for path in outputs {
        let place = Place::of(path);
        if let Some((_, ours)) = known.iter().find(|(other, _)| place.is(other)) {
            let path = path.strip_prefix(&ctx.folder).unwrap_or(path).display().to_string();
            return Err(OutputError::Ours { path, ours: *ours });
        }
        known.push((place, Ours::Output));
    }
    Ok(())
}

/// Refuses outputs that are one file.
///
/// # Errors
/// [`OutputError::Ours`].
pub(crate) fn refuse_each_other(ctx: &Ctx<'_>, outputs: &[&Path]) -> Result<(), OutputError> {
    let mut known: Vec<Place> = Vec::new();
    for path in outputs {
        let place = Place::of(path);
        if known.iter().any(|other| place.is(other)) {
            let path = path.strip_prefix(&ctx.folder).unwrap_or(path).display().to_string();
            return Err(OutputError::Ours { path, ours: Ours::Output });
        }
        known.push(place);
    }
    Ok(())
}

/// Refuses names that are taken, unless they are to be taken.
///
/// # Errors
/// [`OutputError::Exists`].
pub(crate) fn refuse_taken(ctx: &Ctx<'_>, outputs: &[&Path], replace: bool) -> Result<(), OutputError> {
    let taken = outputs.iter().find(|path| !replace && fs::symlink_metadata(path).is_ok());
    taken.map_or(Ok(()), |path| {
        Err(OutputError::Exists(path.strip_prefix(&ctx.folder).unwrap_or(path).display().to_string()))
    })
}
