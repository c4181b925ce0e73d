//! What every use case is lent.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::{Cabinet, CabinetError, Credential};
use ninekeys_core::env::Env;
use ninekeys_formats::secret::{Secret, SecretText};
use thiserror::Error;

use crate::files::{self, FileError};
use crate::project::{CABINET_NAME, ProjectError, ProjectFile};

/// The most that an identity file has.
const IDENTITY_LIMIT: u64 = 16 << 10;

/// Why a question was not answered.
#[derive(Debug, Error)]
pub enum AskError {
    /// Two answers that had to be the same differ.
    #[error("the two entries differ")]
    Differ,
    /// The terminal cannot be read.
    #[error("the terminal cannot be read: {0}")]
    Terminal(#[source] std::io::Error),
}

/// Asks a person. Answers nothing when there is nobody to ask.
pub trait Ask {
    /// A credential that was given beforehand: by an option, a file, the environment.
    ///
    /// # Errors
    /// [`FileError`] when the file that was named cannot be read.
    fn given(&self) -> Result<Option<Credential>, FileError>;
    /// A secret that exists.
    ///
    /// # Errors
    /// [`AskError::Terminal`].
    fn secret(&self, what: &str) -> Result<Option<SecretText>, AskError>;
    /// A new secret, asked for twice.
    ///
    /// # Errors
    /// [`AskError`].
    fn new_secret(&self, what: &str) -> Result<Option<SecretText>, AskError>;
}

/// Nobody to ask.
pub struct Nobody;

impl Ask for Nobody {
    fn given(&self) -> Result<Option<Credential>, FileError> {
        Ok(None)
    }

    fn secret(&self, _what: &str) -> Result<Option<SecretText>, AskError> {
        Ok(None)
    }

    fn new_secret(&self, _what: &str) -> Result<Option<SecretText>, AskError> {
        Ok(None)
    }
}

/// Why a cabinet could not be used.
#[derive(Debug, Error)]
pub enum OpenError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// A file beside it.
    #[error(transparent)]
    File(#[from] FileError),
    /// The cabinet itself.
    #[error("{}: {cause}", path.display())]
    Cabinet {
        /// Where it is.
        path: PathBuf,
        /// What was wrong.
        #[source]
        cause: CabinetError,
    },
    /// It has to be unlocked, and there is nobody to ask.
    #[error("{} is locked, and there is no terminal to ask for the passphrase on", .0.display())]
    NobodyToAsk(PathBuf),
    /// The person could not answer.
    #[error(transparent)]
    Ask(#[from] AskError),
}

/// Environment, places and people, for one command.
pub struct Ctx<'a> {
    /// Time, keys, progress, stop.
    pub env: Env<'a>,
    /// The folder that relative paths count from.
    pub folder: PathBuf,
    /// A project file that was named.
    pub project: Option<PathBuf>,
    /// A cabinet that was named.
    pub cabinet: Option<PathBuf>,
    /// Whom to ask.
    pub ask: &'a dyn Ask,
}

impl Ctx<'_> {
    /// A path counted from the command's folder.
    pub fn path(&self, named: &Path) -> PathBuf {
        self.folder.join(named)
    }

    /// The project file that was named, or the nearest one.
    ///
    /// # Errors
    /// [`ProjectError`].
    pub fn project_file(&self) -> Result<ProjectFile, ProjectError> {
        match &self.project {
            Some(path) => ProjectFile::read(&self.path(path)),
            None => ProjectFile::find(&self.folder),
        }
    }

    /// The project file, or nothing when there is none: a build can be checked on its own.
    ///
    /// # Errors
    /// [`ProjectError`] when there is one and it is of no use.
    pub fn project_if_any(&self) -> Result<Option<ProjectFile>, ProjectError> {
        match self.project_file() {
            Ok(file) => Ok(Some(file)),
            Err(ProjectError::Missing) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Where the cabinet is: as named, else as the project file says, else beside it by its usual name.
    ///
    /// # Errors
    /// [`ProjectError`] when there is neither.
    pub fn cabinet_path(&self) -> Result<PathBuf, ProjectError> {
        if let Some(path) = &self.cabinet {
            return Ok(self.path(path));
        }
        match self.project_file() {
            Ok(file) => Ok(file.cabinet()),
            Err(ProjectError::Missing) if self.folder.join(CABINET_NAME).is_file() => {
                Ok(self.folder.join(CABINET_NAME))
            }
            Err(error) => Err(error),
        }
    }

    /// Opens the cabinet for its facts.
    ///
    /// # Errors
    /// [`OpenError`].
    pub fn open(&self) -> Result<Cabinet, OpenError> {
        let path = self.cabinet_path()?;
        Cabinet::open(&path).map_err(|cause| OpenError::Cabinet { path, cause })
    }

    /// Opens the cabinet and unlocks it: with the credential that was given, else with the identity file
    /// that the project names, else with a passphrase that is asked for.
    ///
    /// # Errors
    /// [`OpenError`].
    pub fn open_unlocked(&self) -> Result<Cabinet, OpenError> {
        let mut cabinet = self.open()?;
        self.unlock(&mut cabinet)?;
        Ok(cabinet)
    }

    /// Unlocks an open cabinet.
    ///
    /// # Errors
    /// [`OpenError`].
    pub fn unlock(&self, cabinet: &mut Cabinet) -> Result<(), OpenError> {
        let path = self.cabinet_path()?;
        let failed = |cause| OpenError::Cabinet { path: path.clone(), cause };
        let before = match self.ask.given()? {
            Some(given) => Some(given),
            None => self.named_unlock_file()?,
        };
        let credential = match before {
            Some(credential) => credential,
            None => match self.ask.secret(&format!("Passphrase of {}", path.display()))? {
                Some(passphrase) => Credential::Passphrase(passphrase),
                None => return Err(OpenError::NobodyToAsk(path.clone())),
            },
        };
        cabinet.unlock(&credential).map(|_| ()).map_err(failed)
    }

    /// The identity in the file that the project names, if the file is there.
    fn named_unlock_file(&self) -> Result<Option<Credential>, OpenError> {
        let Some(file) = self.project_if_any()? else { return Ok(None) };
        let Some(named) = &file.project.unlock_file else { return Ok(None) };
        let path = file.resolve(named);
        if !path.is_file() {
            return Ok(None);
        }
        Ok(Some(Credential::Identity(read_secret_file(&path)?)))
    }
}

/// The text of a file that holds a secret, without the line's end.
///
/// # Errors
/// [`FileError`].
pub fn read_secret_file(path: &Path) -> Result<SecretText, FileError> {
    let bytes = Secret::new(files::read_whole(path, IDENTITY_LIMIT)?);
    bytes.lend(|bytes| match std::str::from_utf8(bytes) {
        Ok(text) => Ok(Secret::new(text.trim_end_matches(['\r', '\n']).to_owned())),
        Err(_) => {
            let cause = std::io::Error::new(std::io::ErrorKind::InvalidData, "it is not text");
            Err(FileError::new("read", path, cause))
        }
    })
}
