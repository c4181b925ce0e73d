//! The project file: found, read, and changed without touching what people wrote into it.

use std::fs::File;
use std::path::{Path, PathBuf};

use ninekeys_cabinet::{Digest, Head, Pin};
use ninekeys_core::model::{Destination, Project, ProjectPin};
use thiserror::Error;
use toml_edit::DocumentMut;

use crate::ctx::Ctx;
use crate::files::{self, Access, FileError, Taken};
use crate::outgoing::Outgoing;

/// Its name.
pub(crate) const FILE_NAME: &str = "ninekeys.toml";
/// The cabinet's name beside it, when it does not say otherwise.
pub(crate) const CABINET_NAME: &str = "ninekeys.cabinet";
const LIMIT: u64 = 1 << 20;

/// Why the project file is of no use.
#[derive(Debug, Error)]
pub enum ProjectError {
    /// It cannot be read or written.
    #[error(transparent)]
    File(#[from] FileError),
    /// There is none in this folder or above it.
    #[error("there is no {FILE_NAME} in this folder or above it")]
    Missing,
    /// It has no such store.
    #[error("the project file has no store called {name}{}", known(stores))]
    UnknownStore {
        /// What was asked for.
        name: String,
        /// Those that it has.
        stores: Vec<String>,
    },
    /// A store was named for a build that goes to none.
    #[error("what goes to {store} is for the store, and {} was asked for", destination.phrase())]
    NotForAStore {
        /// The store.
        store: String,
        /// Where the build was to go.
        destination: Destination,
    },
    /// It is not what it should be.
    #[error("{path} is not a project file: {reason}")]
    Malformed {
        /// Which file.
        path: String,
        /// What the reader said.
        reason: String,
    },
    /// What was asked for is done, and the pin is the earlier one.
    #[error("all of it was done, but the pin of the project file could not be raised: {0}")]
    Unpinned(#[source] Box<ProjectError>),
}

impl ProjectError {
    /// The same error behind a change that is done.
    pub(crate) fn unpinned(self) -> Self {
        ProjectError::Unpinned(Box::new(self))
    }
}

fn known(stores: &[String]) -> String {
    match stores {
        [] => "; it names none beside the portal's".into(),
        some => format!("; it has {}", some.join(", ")),
    }
}

/// A project file that was read.
#[derive(Debug, Clone)]
pub struct ProjectFile {
    /// Where it is.
    pub path: PathBuf,
    /// What it says.
    pub project: Project,
    text: String,
}

impl ProjectFile {
    /// Reads `path`, which may be its folder.
    ///
    /// # Errors
    /// [`ProjectError`].
    pub fn read(path: &Path) -> Result<Self, ProjectError> {
        let path = if path.is_dir() { path.join(FILE_NAME) } else { path.to_owned() };
        let bytes = files::read_whole(&path, LIMIT)?;
        let malformed = |reason: String| ProjectError::Malformed { path: path.display().to_string(), reason };
        let text = String::from_utf8(bytes).map_err(|_| malformed("it is not text".into()))?;
        Self::parse(&path, text)
    }

    fn parse(path: &Path, text: String) -> Result<Self, ProjectError> {
        let malformed = |reason: String| ProjectError::Malformed { path: path.display().to_string(), reason };
        let project: Project =
            toml_edit::de::from_str(&text).map_err(|error| malformed(placed(&error, &text)))?;
        if let Some((app, name)) = project.unknown_extension() {
            let reason = format!(
                "extension-entitlements of {app} speak of {name}, and it has no extension of that name"
            );
            return Err(malformed(reason));
        }
        if let Some(store) = project.unknown_store() {
            let reason = format!(
                "a store called {store}: each has a table `store.NAME`, and a name that means no destination"
            );
            return Err(malformed(reason));
        }
        Ok(ProjectFile { path: path.to_owned(), project, text })
    }

    /// Reads the nearest project file in `folder` or above it.
    ///
    /// # Errors
    /// [`ProjectError::Missing`], or as [`ProjectFile::read`].
    pub fn find(folder: &Path) -> Result<Self, ProjectError> {
        let found = folder.ancestors().map(|above| above.join(FILE_NAME)).find(|path| path.is_file());
        Self::read(&found.ok_or(ProjectError::Missing)?)
    }

    /// A path that the file names, counted from the file's folder.
    pub fn resolve(&self, named: &str) -> PathBuf {
        files::folder_of(&self.path).join(named)
    }

    /// The same as it is for what goes to one of its stores, where one is meant.
    ///
    /// # Errors
    /// [`ProjectError::UnknownStore`].
    pub(crate) fn at(self, store: Option<&str>) -> Result<Self, ProjectError> {
        let Some(store) = store else { return Ok(self) };
        let stores = || self.project.stores.keys().map(ToString::to_string).collect();
        let unknown = || ProjectError::UnknownStore { name: store.to_owned(), stores: stores() };
        let project = self.project.at(store).ok_or_else(unknown)?;
        Ok(ProjectFile { project, ..self })
    }

    /// Where the cabinet is.
    pub fn cabinet(&self) -> PathBuf {
        self.resolve(self.project.cabinet.as_deref().unwrap_or(CABINET_NAME))
    }

    /// The pin, if there is one.
    ///
    /// A pin that cannot be one names no cabinet: nothing opens by it.
    pub fn pin(&self) -> Option<Pin> {
        let ProjectPin { cabinet, row, hash } = self.project.pin.as_ref()?;
        let none = || Digest::from_text(&"0".repeat(64));
        let digest = |text: &str| Digest::from_text(text).or_else(none);
        Some(Pin { identity: digest(cabinet)?, head: Head { seq: *row, hash: digest(hash)? } })
    }

    /// Reads the file again under its lock, changes it, and writes it: what others wrote meanwhile is kept.
    ///
    /// # Errors
    /// [`ProjectError`], and what `work` returns; then the file is as it was.
    pub fn change<R, E: From<ProjectError>>(
        &self,
        ctx: &Ctx<'_>,
        work: impl FnOnce(&ProjectFile, &mut DocumentMut) -> Result<R, E>,
    ) -> Result<R, E> {
        let path = self.path.canonicalize().unwrap_or_else(|_| self.path.clone());
        let lock = lock(&path)?;
        let now = ProjectFile::read(&path)?;
        let mut document = now.document()?;
        let result = work(&now, &mut document)?;
        let text = document.to_string();
        // what cannot be read back is not written
        ProjectFile::parse(&path, text.clone())?;
        let mode = std::fs::metadata(&path).map(|found| found.permissions());
        let random =
            |_| ProjectError::from(FileError::new("written", &path, std::io::Error::other("no randomness")));
        let mut scratch = Outgoing::scratch(ctx).map_err(random)?;
        let output = scratch.file(&path, Access::Usual).map_err(ProjectError::from)?;
        output.put(0, text.as_bytes()).map_err(ProjectError::from)?;
        if let Ok(mode) = mode {
            let failed = |cause| ProjectError::from(FileError::new("written", &path, cause));
            std::fs::set_permissions(output.path(), mode).map_err(failed)?;
        }
        output.finish(Taken::Replace).map_err(ProjectError::from)?;
        drop(lock);
        Ok(result)
    }

    /// Pins the cabinet as it is now.
    ///
    /// # Errors
    /// [`ProjectError`].
    pub(crate) fn set_pin(&self, ctx: &Ctx<'_>, pin: &Pin) -> Result<(), ProjectError> {
        if self.pin().as_ref() == Some(pin) {
            return Ok(());
        }
        self.change(ctx, |_, document| {
            let mut table = toml_edit::InlineTable::new();
            table.insert("cabinet", pin.identity.to_string().into());
            table.insert("row", i64::try_from(pin.head.seq).unwrap_or(i64::MAX).into());
            table.insert("hash", pin.head.hash.to_string().into());
            document.insert("pin", toml_edit::value(table));
            Ok(())
        })
    }

    /// Pins the cabinet as it is after a change that is done, if it pins one at all.
    ///
    /// # Errors
    /// [`ProjectError::Unpinned`].
    pub(crate) fn raise_pin(&self, ctx: &Ctx<'_>, pin: &Pin) -> Result<(), ProjectError> {
        match self.pin() {
            Some(_) => self.set_pin(ctx, pin).map_err(ProjectError::unpinned),
            None => Ok(()),
        }
    }

    /// The document, to be changed with its comments and order.
    ///
    /// # Errors
    /// [`ProjectError::Malformed`].
    fn document(&self) -> Result<DocumentMut, ProjectError> {
        self.text.parse().map_err(|error: toml_edit::TomlError| ProjectError::Malformed {
            path: self.path.display().to_string(),
            reason: error.message().to_owned(),
        })
    }
}

/// Where the reader stopped, and why: a line's number, never the line. What stands in a file that was meant to be
/// something else may be anything.
fn placed(error: &toml_edit::de::Error, text: &str) -> String {
    let line =
        error.span().and_then(|span| text.get(..span.start)).map(|before| before.matches('\n').count() + 1);
    let message: String = error.message().chars().take(200).map(shown).collect();
    let Some(line) = line else { return message };
    let key = text.lines().nth(line - 1).and_then(|line| line.split_once('=')).map(|(key, _)| key.trim());
    let plain = |key: &&str| {
        (1..=64).contains(&key.len()) && key.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_.".contains(&b))
    };
    match key.filter(plain) {
        Some(key) => format!("line {line}, {key}: {message}"),
        None => format!("line {line}: {message}"),
    }
}

/// A character as a terminal may have it.
fn shown(c: char) -> String {
    if c.is_control() { c.escape_debug().to_string() } else { c.to_string() }
}

/// One change of a project file at a time.
fn lock(path: &Path) -> Result<File, ProjectError> {
    let failed = |cause| ProjectError::from(FileError::new("read", path, cause));
    loop {
        let file = File::open(path).map_err(failed)?;
        file.lock().map_err(failed)?;
        // whoever had the lock may have put another file in the place
        if files::is_same(&file, path) {
            return Ok(file);
        }
    }
}
