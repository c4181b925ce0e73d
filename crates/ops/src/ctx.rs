//! What every use case is lent.

use std::cell::RefCell;
use std::path::{Path, PathBuf};
use std::time::Duration;

use ninekeys_cabinet::{Cabinet, CabinetError, Credential, Digest, Look, Memory, Pin, Standing, Trust};
use ninekeys_core::env::Env;
use ninekeys_core::model::{Destination, ItemId};
use ninekeys_formats::secret::{Secret, SecretText};
use thiserror::Error;

use crate::ask::{self, Ask, AskError};
use crate::files::{self, FileError};
use crate::memory::MachineMemory;
use crate::outgoing;
use crate::project::{CABINET_NAME, ProjectError, ProjectFile};
use crate::remembered::{self, CredentialStore};

/// The most that a file with a secret has.
const SECRET_LIMIT: u64 = 16 << 10;

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
    /// A store of the project file that was named; the one that stands with the portal when none was.
    pub store: Option<String>,
    /// Whom to ask.
    pub ask: &'a dyn Ask,
    /// What this machine remembers.
    pub machine: &'a MachineMemory,
    /// Where the operating system keeps what unlocks, when it was asked to.
    pub credentials: &'a dyn CredentialStore,
    /// How long the command has been running; stands still where the time is fixed.
    pub running: &'a (dyn Fn() -> Duration + Sync),
    /// What a person has to be told beside the answer.
    pub notices: RefCell<Vec<Notice>>,
}

/// Something that a person has to be told whatever was asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Notice {
    /// The cabinet is not as new as something that is known.
    NotCurrent(Standing),
    /// Nothing said which cabinet is meant; it is remembered from now on.
    NotPinned(Digest),
    /// Something was set aside under this name.
    SetAside(PathBuf),
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
        let file = match &self.project {
            Some(path) => ProjectFile::read(&self.path(path)),
            None => ProjectFile::find(&self.folder),
        };
        file?.at(self.store.as_deref())
    }

    /// Where a build goes, as somebody asked for it: what goes to a store that was named is for the store.
    ///
    /// # Errors
    /// [`ProjectError::NotForAStore`].
    pub fn destination(&self, asked: Option<Destination>) -> Result<Option<Destination>, ProjectError> {
        match (&self.store, asked) {
            (None, asked) => Ok(asked),
            (Some(_), None | Some(Destination::Store)) => Ok(Some(Destination::Store)),
            (Some(store), Some(destination)) => {
                Err(ProjectError::NotForAStore { store: store.clone(), destination })
            }
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

    /// Opens the cabinet for its facts, and holds it against the project file's pin and this machine's memory.
    ///
    /// # Errors
    /// [`OpenError`].
    pub fn open(&self) -> Result<Cabinet<'_>, OpenError> {
        self.meet(Cabinet::open, |cabinet| (cabinet.identity(), cabinet.standing()))
    }

    /// Looks at the cabinet's items and no more; held against the same.
    ///
    /// # Errors
    /// [`OpenError`].
    pub fn look(&self) -> Result<Look, OpenError> {
        self.meet(Look::at, |look| (look.identity, look.standing))
    }

    /// The same for a list: what the items hold beyond what lists tell may be left out.
    ///
    /// # Errors
    /// [`OpenError`].
    pub(crate) fn look_for_a_list(&self) -> Result<Look, OpenError> {
        self.meet(Look::for_a_list, |look| (look.identity, look.standing))
    }

    fn meet<'c, T>(
        &'c self,
        open: impl FnOnce(&Path, Trust<'c>) -> Result<T, CabinetError>,
        stands: impl FnOnce(&T) -> (Digest, Standing),
    ) -> Result<T, OpenError> {
        let path = self.cabinet_path()?;
        let pin = self.pin()?;
        let is_new = pin.is_none() && self.machine.is_kept() && self.machine.at(&path).is_none();
        let trust = Trust { pin, memory: self.machine };
        let found = open(&path, trust).map_err(|cause| OpenError::Cabinet { path, cause })?;
        let (identity, standing) = stands(&found);
        if is_new {
            self.notice(Notice::NotPinned(identity));
        }
        if standing != Standing::Current {
            self.notice(Notice::NotCurrent(standing));
        }
        Ok(found)
    }

    /// Notes something that a person has to be told; once.
    pub fn notice(&self, notice: Notice) {
        let mut all = self.notices.borrow_mut();
        if !all.contains(&notice) {
            all.push(notice);
        }
    }

    /// Takes a notice back that is told otherwise.
    pub(crate) fn forget_notice(&self, told: &Notice) {
        self.notices.borrow_mut().retain(|notice| notice != told);
    }

    /// Notes that something was set aside, where it was.
    pub(crate) fn notice_aside(&self, aside: Option<PathBuf>) {
        if let Some(path) = aside {
            self.notice(Notice::SetAside(path));
        }
    }

    /// The project file's pin, where the project file says which cabinet it is.
    ///
    /// # Errors
    /// [`ProjectError`].
    pub fn pin(&self) -> Result<Option<Pin>, ProjectError> {
        Ok(self.project_if_any()?.and_then(|file| file.pin()))
    }

    /// Opens the cabinet and unlocks it: with the credential that was given, else with the unlock file
    /// that the project names, else with a passphrase that is asked for.
    ///
    /// # Errors
    /// [`OpenError`].
    pub fn open_unlocked(&self) -> Result<Cabinet<'_>, OpenError> {
        let mut cabinet = self.open()?;
        self.unlock(&mut cabinet)?;
        Ok(cabinet)
    }

    /// Unlocks an open cabinet to work with it, and ends what earlier commands could not.
    ///
    /// # Errors
    /// [`OpenError`].
    pub fn unlock(&self, cabinet: &mut Cabinet<'_>) -> Result<(), OpenError> {
        if let standing @ (Standing::Older { .. } | Standing::Parted { .. }) = cabinet.standing() {
            // the error says it; once is enough
            self.forget_notice(&Notice::NotCurrent(standing));
            let path = self.cabinet_path()?;
            return Err(OpenError::Cabinet { path, cause: CabinetError::NotCurrent(standing) });
        }
        self.unlock_with(cabinet, |cabinet, credential| cabinet.unlock(credential))?;
        outgoing::settle(self, cabinet);
        Ok(())
    }

    /// Unlocks an open cabinet, and keeps what did: for one who goes on to use cases that unlock it too.
    ///
    /// # Errors
    /// [`OpenError`].
    pub(crate) fn unlocked_by(&self, cabinet: &mut Cabinet<'_>) -> Result<Credential, OpenError> {
        let kept = RefCell::new(None);
        self.unlock_with(cabinet, |cabinet, credential| {
            cabinet.unlock(credential)?;
            kept.replace(Some(credential.duplicate()));
            Ok(())
        })?;
        kept.into_inner().ok_or_else(|| OpenError::NobodyToAsk(cabinet.path().to_owned()))
    }

    /// The same, for another person to answer.
    pub(crate) fn asking<'b>(&'b self, ask: &'b dyn Ask) -> Ctx<'b> {
        Ctx {
            env: self.env,
            folder: self.folder.clone(),
            project: self.project.clone(),
            cabinet: self.cabinet.clone(),
            store: self.store.clone(),
            ask,
            machine: self.machine,
            credentials: self.credentials,
            running: self.running,
            notices: RefCell::default(),
        }
    }

    /// A sealed text, to be told: that it is, by which command, stands in the history first.
    pub(crate) fn tell(
        &self,
        cabinet: &mut Cabinet<'_>,
        command: &str,
        id: &ItemId,
    ) -> Result<SecretText, CabinetError> {
        cabinet.change(command, &self.env, |_| Ok::<_, CabinetError>(()))?;
        let inventory = cabinet.inventory()?;
        let gone = || CabinetError::Tampered(format!("the item {id} is gone"));
        let secret = cabinet.secret(inventory.get(id).ok_or_else(gone)?)?;
        Ok(secret.lend(|bytes| Secret::new(String::from_utf8_lossy(bytes).into_owned())))
    }

    /// Unlocks a cabinet in one way or another, also by what is remembered.
    pub(crate) fn unlock_with(
        &self,
        cabinet: &mut Cabinet<'_>,
        unlock: impl Fn(&mut Cabinet<'_>, &Credential) -> Result<(), CabinetError>,
    ) -> Result<(), OpenError> {
        let identity = cabinet.identity();
        // read once: a descriptor gives what is in it to the first who asks
        let given = self.given()?;
        if given.is_none()
            && let Some((credential, _)) = remembered::find(self, &identity)
        {
            match unlock(cabinet, &credential) {
                // its member is gone, or has another key now
                Err(CabinetError::WrongUnlockFile | CabinetError::NotAnUnlockFile) => {
                    remembered::forget(self, &identity);
                }
                done => {
                    let path = cabinet.path().to_owned();
                    return done.map_err(|cause| OpenError::Cabinet { path, cause });
                }
            }
        }
        self.unlock_or_ask(cabinet, given, unlock)
    }

    /// What unlocks the cabinet and was given beforehand: by the command, else by the project file.
    fn given(&self) -> Result<Option<Credential>, OpenError> {
        match self.ask.given()? {
            Some(given) => Ok(Some(given)),
            None => self.named_unlock_file(),
        }
    }

    /// Unlocks a cabinet by what is given or typed, and not by what is remembered; a person may mistype.
    pub(crate) fn unlock_afresh(
        &self,
        cabinet: &mut Cabinet<'_>,
        unlock: impl Fn(&mut Cabinet<'_>, &Credential) -> Result<(), CabinetError>,
    ) -> Result<(), OpenError> {
        let given = self.given()?;
        self.unlock_or_ask(cabinet, given, unlock)
    }

    fn unlock_or_ask(
        &self,
        cabinet: &mut Cabinet<'_>,
        given: Option<Credential>,
        unlock: impl Fn(&mut Cabinet<'_>, &Credential) -> Result<(), CabinetError>,
    ) -> Result<(), OpenError> {
        let path = cabinet.path().to_owned();
        let failed = |cause| OpenError::Cabinet { path: path.clone(), cause };
        if let Some(credential) = given {
            return unlock(cabinet, &credential).map_err(failed);
        }
        let shown = path.strip_prefix(&self.folder).unwrap_or(&path).display();
        let tried = ask::open_asking(
            self.ask,
            &format!("Passphrase of {shown}"),
            "This passphrase does not open the cabinet; once more",
            |passphrase| unlock(cabinet, &Credential::Passphrase(passphrase)),
            |error| matches!(error, CabinetError::WrongPassphrase),
        )?;
        match tried {
            Some(done) => done.map_err(failed),
            None => Err(OpenError::NobodyToAsk(path)),
        }
    }

    /// The unlock file that the project names, if it is there.
    fn named_unlock_file(&self) -> Result<Option<Credential>, OpenError> {
        let Some(file) = self.project_if_any()? else { return Ok(None) };
        let Some(named) = &file.project.unlock_file else { return Ok(None) };
        let path = file.resolve(named);
        if !path.is_file() {
            return Ok(None);
        }
        Ok(Some(Credential::UnlockFile(read_secret_file(&path)?)))
    }
}

/// The text of a file that holds a secret, without the line's end.
///
/// # Errors
/// [`FileError`].
pub(crate) fn read_secret_file(path: &Path) -> Result<SecretText, FileError> {
    let bytes = Secret::new(files::read_whole(path, SECRET_LIMIT)?);
    bytes.lend(|bytes| match std::str::from_utf8(bytes) {
        Ok(text) => Ok(Secret::new(text.trim_end_matches(['\r', '\n']).to_owned())),
        Err(_) => {
            let cause = std::io::Error::new(std::io::ErrorKind::InvalidData, "it is not text");
            Err(FileError::new("read", path, cause))
        }
    })
}
