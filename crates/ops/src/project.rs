//! The project file: found, read, and changed without touching what people wrote into it.

use std::path::{Path, PathBuf};

use ninekeys_core::model::Project;
use thiserror::Error;
use toml_edit::DocumentMut;

use crate::files::{self, Access, FileError};

/// Its name.
pub const FILE_NAME: &str = "ninekeys.toml";
/// The cabinet's name beside it, when it does not say otherwise.
pub const CABINET_NAME: &str = "ninekeys.cabinet";
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
    /// It is not what it should be.
    #[error("{path} is not a project file: {reason}")]
    Malformed {
        /// Which file.
        path: String,
        /// What the reader said.
        reason: String,
    },
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
        let project: Project =
            toml_edit::de::from_str(&text).map_err(|error| malformed(error.to_string().trim().into()))?;
        Ok(ProjectFile { path: path.clone(), project, text })
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

    /// Where the cabinet is.
    pub fn cabinet(&self) -> PathBuf {
        self.resolve(self.project.cabinet.as_deref().unwrap_or(CABINET_NAME))
    }

    /// The document, to be changed with its comments and order.
    ///
    /// # Errors
    /// [`ProjectError::Malformed`].
    pub fn document(&self) -> Result<DocumentMut, ProjectError> {
        self.text.parse().map_err(|error: toml_edit::TomlError| ProjectError::Malformed {
            path: self.path.display().to_string(),
            reason: error.to_string(),
        })
    }

    /// Writes a changed document in place of the file.
    ///
    /// # Errors
    /// [`ProjectError`].
    pub fn write(&self, document: &DocumentMut) -> Result<(), ProjectError> {
        Ok(files::write_whole(&self.path, document.to_string().as_bytes(), Access::Usual, true)?)
    }
}
