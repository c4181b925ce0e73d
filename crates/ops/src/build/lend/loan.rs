//! The private folder of a loan: made under a lock, taken away by whoever holds that lock last.

use std::fs::{self, File};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::time::Duration;

use ninekeys_core::digest::{from_hex, hex, sha256_hex};
use zeroize::Zeroizing;

use super::LendError;
use crate::files::{self, Access, FileError, Taken};

/// What private folders are called; the rest of the name is random.
const PREFIX: &str = "ninekeys-lent-";
/// What they are called until their lock is held.
const BEGUN: &str = "ninekeys-begun-";
const LOCK: &str = "lock";
/// Names the files outside of the folder that go with it, one a line: the path in hexadecimal, and what it is known by.
const BESIDE: &str = "beside";
pub(super) const KEYSTORE: &str = "keystore.p12";
pub(super) const IDENTITY: &str = "identity.p12";
pub(super) const PROPERTIES: &str = "lent.properties";
/// Longer than it takes to make a folder and lock it.
const BEGINNING: Duration = Duration::from_secs(60);

/// A file outside of the private folder.
pub(super) struct Beside {
    /// Where.
    pub(super) path: PathBuf,
    /// What shows that it is the loan's.
    pub(super) mark: Mark,
}

/// What shows that a file is a loan's.
pub(super) enum Mark {
    /// It says so itself.
    Own,
    /// Its bytes are what was lent.
    Sha256(String),
}

impl Beside {
    fn line(&self) -> String {
        let path = hex(self.path.as_os_str().as_encoded_bytes());
        match &self.mark {
            Mark::Own => format!("{path}\n"),
            Mark::Sha256(hash) => format!("{path} {hash}\n"),
        }
    }

    fn read(line: &str) -> Option<Self> {
        let (path, hash) = line.split_once(' ').map_or((line, None), |(path, hash)| (path, Some(hash)));
        let path = PathBuf::from(String::from_utf8(from_hex(path)?).ok()?);
        let mark = hash.map_or(Mark::Own, |hash| Mark::Sha256(hash.to_owned()));
        Some(Beside { path, mark })
    }

    /// Takes the file away, if it still is what was put there.
    fn take_away(&self, folder: &Path) {
        let is_ours = match &self.mark {
            Mark::Own => bears(&self.path, &loan_mark(folder)),
            Mark::Sha256(hash) => {
                files::read_whole(&self.path, MOST_LENT).is_ok_and(|bytes| sha256_hex(&bytes) == *hash)
            }
        };
        if is_ours {
            let _ = fs::remove_file(&self.path);
        }
    }
}

/// A private folder that goes when it is dropped, and files beside it.
pub(super) struct Loan {
    folder: PathBuf,
    beside: Vec<Beside>,
    /// Held for as long as the loan lasts.
    _lock: File,
}

impl Drop for Loan {
    fn drop(&mut self) {
        // what another loan put there in the meantime is that loan's
        self.beside.iter().for_each(|one| one.take_away(&self.folder));
        take_back(&self.folder);
    }
}

/// Takes a loan's folder away: what is secret first, the lock last, so that whatever ends us in between leaves something
/// that the next start knows for a loan.
fn take_back(folder: &Path) {
    for secret in [KEYSTORE, IDENTITY, PROPERTIES] {
        let _ = fs::remove_file(folder.join(secret));
    }
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        if entry.file_name() != LOCK {
            let path = entry.path();
            let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
            let _ = if is_folder { fs::remove_dir_all(path) } else { fs::remove_file(path) };
        }
    }
    let _ = fs::remove_file(folder.join(LOCK));
    let _ = fs::remove_dir(folder);
}

impl Loan {
    /// Makes the folder, locks it, and only then gives it the name that later starts look for.
    pub(super) fn begin(folders: &[PathBuf]) -> Result<Loan, LendError> {
        let mut last = LendError::NoFolder;
        for place in folders.iter().filter(|place| place.is_dir()) {
            match Loan::begin_in(place) {
                Ok(loan) => return Ok(loan),
                Err(error) => last = error.into(),
            }
        }
        Err(last)
    }

    fn begin_in(place: &Path) -> Result<Loan, FileError> {
        let failed = |cause| FileError::new("made", place, cause);
        let mut builder = tempfile::Builder::new();
        builder.prefix(BEGUN);
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            builder.permissions(fs::Permissions::from_mode(0o700));
        }
        let begun = builder.tempdir_in(place).map_err(failed)?;
        let lock = File::create_new(begun.path().join(LOCK)).map_err(failed)?;
        lock.lock().map_err(failed)?;
        let name = begun.path().file_name().unwrap_or_default().to_string_lossy().replacen(BEGUN, PREFIX, 1);
        let folder = place.join(name);
        fs::rename(begun.path(), &folder).map_err(failed)?;
        // there is nothing under the old name any more
        let _ = begun.keep();
        Ok(Loan { folder, beside: Vec::new(), _lock: lock })
    }

    pub(super) fn path(&self) -> &Path {
        &self.folder
    }

    /// Notes a file that is about to be put elsewhere, behind those that were.
    pub(super) fn note_beside(&self, more: &Beside) -> Result<(), FileError> {
        let text: String = self.beside.iter().chain([more]).map(Beside::line).collect();
        files::write_whole(&self.folder.join(BESIDE), text.as_bytes(), Access::Owner, Taken::Replace)
            .map(|_| ())
    }

    /// Takes a file for the loan's own: it was put there, and goes with it. What another loan was quicker to put there is that one's.
    pub(super) fn holds(&mut self, file: Beside) {
        self.beside.push(file);
    }
}

/// What a properties file on loan begins with: it says whose it is.
pub(super) fn loan_mark(folder: &Path) -> String {
    let name = folder.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    format!("{LOAN}: {name}")
}

/// What every one of them says.
pub(super) const LOAN: &str = "on loan, gone when the command ends";

/// Whether a file bears a mark; only as much is read as a properties file on loan has.
pub(super) fn bears(path: &Path, mark: &str) -> bool {
    let room = usize::try_from(MOST_PROPERTIES).unwrap_or(0) + 64;
    let mut text = Zeroizing::new(Vec::with_capacity(room));
    let read = File::open(path).and_then(|file| file.take(MOST_PROPERTIES).read_to_end(&mut text));
    read.is_ok() && text.windows(mark.len()).any(|window| window == mark.as_bytes())
}

/// More than a file has that is put elsewhere.
const MOST_LENT: u64 = 4 << 20;
/// More than a properties file on loan has.
const MOST_PROPERTIES: u64 = 64 << 10;
/// Takes away what a lender left that was killed: folders of ours whose lock nobody holds, and the properties file
/// that goes with them.
pub fn sweep(folders: &[PathBuf]) {
    for place in folders {
        let Ok(all) = fs::read_dir(place) else { continue };
        for entry in all.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if !is_private_folder(&entry.path()) {
                continue;
            }
            if name.starts_with(PREFIX) {
                sweep_one(&entry.path());
            } else if name.starts_with(BEGUN) {
                sweep_begun(&entry.path());
            }
        }
    }
}

fn sweep_one(folder: &Path) {
    let Ok(lock) = File::open(folder.join(LOCK)) else { return };
    if lock.try_lock().is_err() {
        return;
    }
    beside(folder).iter().for_each(|one| one.take_away(folder));
    take_back(folder);
}

/// A folder that never became a loan: nothing is in it but a lock, and it is older than a start takes.
fn sweep_begun(folder: &Path) {
    let old = fs::metadata(folder).and_then(|found| found.modified());
    let is_old = old.ok().and_then(|then| then.elapsed().ok()).is_some_and(|age| age > BEGINNING);
    if is_old && File::open(folder.join(LOCK)).map_or(true, |lock| lock.try_lock().is_ok()) {
        let _ = fs::remove_file(folder.join(LOCK));
        let _ = fs::remove_dir(folder);
    }
}

/// The files that a folder names.
fn beside(folder: &Path) -> Vec<Beside> {
    let text = files::read_whole(&folder.join(BESIDE), MOST_LENT).unwrap_or_default();
    String::from_utf8_lossy(&text).lines().filter_map(Beside::read).collect()
}

/// Whether a file stands where it does for a loan that lasts.
pub(super) fn is_lent(folders: &[PathBuf], path: &Path) -> bool {
    let loans = folders.iter().filter_map(|place| fs::read_dir(place).ok()).flatten().flatten();
    let loans = loans.map(|entry| entry.path()).filter(|folder| {
        let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
        name.starts_with(PREFIX) && is_private_folder(folder)
    });
    loans.flat_map(|folder| beside(&folder)).any(|one| one.path == path)
}

/// Whether it is a folder, no link to one, that belongs to us alone: others could make us remove what is not theirs.
#[cfg(unix)]
fn is_private_folder(path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let ours = rustix::process::getuid().as_raw();
    fs::symlink_metadata(path).is_ok_and(|m| m.is_dir() && m.uid() == ours && m.mode() & 0o077 == 0)
}

#[cfg(not(unix))]
fn is_private_folder(path: &Path) -> bool {
    fs::symlink_metadata(path).is_ok_and(|metadata| metadata.is_dir())
}
