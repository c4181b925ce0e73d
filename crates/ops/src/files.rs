//! Files: read by position, written whole or not at all.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::SystemTime;

use jiff::Timestamp;
use ninekeys_core::env::Env;
use ninekeys_core::stream::{DigestError, Sink, source_sha256};
use ninekeys_formats::source::{ReadError, Source};
use tempfile::{Builder, NamedTempFile};
use thiserror::Error;

/// A file operation that failed.
#[derive(Debug, Error)]
#[error("{path} could not be {action}: {}", reason(action, cause))]
pub struct FileError {
    /// What was tried, as a participle: `read`, `written`.
    pub action: &'static str,
    /// On what.
    pub path: String,
    /// What the system said.
    #[source]
    pub cause: io::Error,
}

/// What was tried, where a file stands under its name and nothing but that it lasts was not to be had.
pub const LASTING: &str = "made to last";

impl FileError {
    /// The error for `action` on `path`.
    pub fn new(action: &'static str, path: &Path, cause: io::Error) -> Self {
        FileError { action, path: path.display().to_string(), cause }
    }
}

/// What the system said, in words that a user knows.
fn reason(action: &str, cause: &io::Error) -> String {
    match cause.kind() {
        io::ErrorKind::NotFound if action == "written" => "its folder is not there".into(),
        io::ErrorKind::NotFound => "there is no such file".into(),
        io::ErrorKind::PermissionDenied => "you have no permission".into(),
        io::ErrorKind::IsADirectory => "it is a folder".into(),
        io::ErrorKind::NotADirectory => "a part of its path is not a folder".into(),
        io::ErrorKind::StorageFull => "the disk is full".into(),
        io::ErrorKind::ReadOnlyFilesystem => "the disk is read-only".into(),
        io::ErrorKind::AlreadyExists => "it exists already".into(),
        io::ErrorKind::FileTooLarge => "it would be larger than files may be here".into(),
        _ => cause.to_string(),
    }
}

/// A file that is read by position, from several threads.
#[derive(Debug)]
pub(crate) struct InputFile {
    file: File,
    length: u64,
    modified: Option<SystemTime>,
}

impl InputFile {
    /// Opens a file for reading.
    ///
    /// # Errors
    /// [`FileError`], also for a folder.
    pub fn open(path: &Path) -> Result<Self, FileError> {
        let failed = |cause| FileError::new("read", path, cause);
        // looked at before it is opened: a pipe would wait for a writer
        let found = fs::metadata(path).map_err(failed)?;
        if found.is_dir() {
            return Err(failed(io::ErrorKind::IsADirectory.into()));
        }
        if !found.is_file() {
            return Err(failed(io::Error::new(io::ErrorKind::InvalidInput, "it is not a regular file")));
        }
        let file = File::open(path).map_err(failed)?;
        let opened = file.metadata().map_err(failed)?;
        Ok(InputFile { file, length: opened.len(), modified: opened.modified().ok() })
    }

    /// Refuses a file that somebody wrote to since it was opened: what was read first is then not what was read later.
    ///
    /// # Errors
    /// [`FileError`].
    pub(crate) fn refuse_changed(&self, path: &Path) -> Result<(), FileError> {
        let failed = |cause| FileError::new("read", path, cause);
        let now = self.file.metadata().map_err(failed)?;
        match now.len() == self.length && now.modified().ok() == self.modified {
            true => Ok(()),
            false => Err(failed(io::Error::other("it was written to while it was read"))),
        }
    }

    /// Refuses a path that leads to another file by now.
    ///
    /// # Errors
    /// [`FileError`].
    pub(crate) fn refuse_other(&self, path: &Path) -> Result<(), FileError> {
        let replaced = || io::Error::other("another file took its place while it was read");
        if is_same(&self.file, path) { Ok(()) } else { Err(FileError::new("read", path, replaced())) }
    }
}

impl Source for InputFile {
    fn len(&self) -> u64 {
        self.length
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        let wanted = into.len() as u64;
        read_exact_at(&self.file, at, into).map_err(|cause| ReadError { at, wanted, cause })
    }
}

#[cfg(unix)]
pub(crate) fn read_exact_at(file: &File, at: u64, into: &mut [u8]) -> io::Result<()> {
    std::os::unix::fs::FileExt::read_exact_at(file, into, at)
}

#[cfg(windows)]
pub(crate) fn read_exact_at(file: &File, mut at: u64, mut into: &mut [u8]) -> io::Result<()> {
    while !into.is_empty() {
        match std::os::windows::fs::FileExt::seek_read(file, into, at)? {
            0 => return Err(io::ErrorKind::UnexpectedEof.into()),
            n => {
                at += n as u64;
                into = into.get_mut(n..).unwrap_or_default();
            }
        }
    }
    Ok(())
}

/// A whole file, at most `limit` bytes of it.
///
/// # Errors
/// [`FileError`], also when it is larger.
pub(crate) fn read_whole(path: &Path, limit: u64) -> Result<Vec<u8>, FileError> {
    let file = InputFile::open(path)?;
    let failed = |error: ReadError| FileError::new("read", path, error.cause);
    if file.len() > limit {
        return Err(FileError::new("read", path, io::ErrorKind::FileTooLarge.into()));
    }
    file.bytes(0..file.len(), limit).map_err(failed)
}

/// Who may read a file that is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Access {
    /// Its owner alone (mode 0600).
    Owner,
    /// Whoever the system's usual mode lets.
    Usual,
}

/// What becomes of a file that has the name already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Taken {
    /// It stays, and nothing is written.
    Refuse,
    /// It gets another name, which says when.
    SetAside(Timestamp),
    /// It goes: the caller knows what it is.
    Replace,
}

impl Taken {
    /// Refused, or set aside when the user said that the name is to be taken.
    pub(crate) fn when_told(replace: bool, now: Timestamp) -> Self {
        if replace { Taken::SetAside(now) } else { Taken::Refuse }
    }
}

/// A file that gets its name only when it is whole. Dropped before that, it leaves nothing behind.
#[derive(Debug)]
pub(crate) struct OutputFile {
    temporary: NamedTempFile,
    target: PathBuf,
    /// File systems let one writer at a file at a time, and make the others spin: they may sleep instead.
    turn: Mutex<()>,
}

impl OutputFile {
    /// Begins a file beside `target`.
    ///
    /// # Errors
    /// [`FileError`].
    pub fn begin(target: &Path, access: Access) -> Result<Self, FileError> {
        Self::begin_with(target, access, Builder::new().prefix(TEMPORARY).suffix(".part"))
    }

    /// Begins a file beside `target` under a name that is known beforehand.
    pub(crate) fn begin_named(target: &Path, access: Access, name: &str) -> Result<Self, FileError> {
        Self::begin_with(target, access, Builder::new().prefix(name).rand_bytes(0))
    }

    fn begin_with(target: &Path, access: Access, builder: &mut Builder<'_, '_>) -> Result<Self, FileError> {
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            let mode = if access == Access::Owner { 0o600 } else { 0o666 };
            builder.permissions(fs::Permissions::from_mode(mode));
        }
        #[cfg(not(unix))]
        let _ = access;
        let temporary =
            builder.tempfile_in(folder_of(target)).map_err(|c| FileError::new("written", target, c))?;
        Ok(OutputFile { temporary, target: target.to_owned(), turn: Mutex::new(()) })
    }

    /// Where the bytes stand until the file gets its name.
    pub fn path(&self) -> &Path {
        self.temporary.path()
    }

    /// The name that it will have.
    pub fn target(&self) -> &Path {
        &self.target
    }

    /// Writes `bytes` at the position `at`.
    ///
    /// # Errors
    /// [`FileError`].
    pub fn put(&self, at: u64, bytes: &[u8]) -> Result<(), FileError> {
        self.write_at(at, bytes).map_err(|cause| FileError::new("written", &self.target, cause))
    }

    /// What was written so far, for reading.
    ///
    /// # Errors
    /// [`FileError`].
    pub(crate) fn reread(&self) -> Result<InputFile, FileError> {
        InputFile::open(self.temporary.path())
    }

    /// Brings what was written to the disk, so that [`OutputFile::finish`] has less to wait for.
    ///
    /// # Errors
    /// [`FileError`]. A system tells such a failure once: whoever passes over it would name a broken file.
    pub(crate) fn settle(&self) -> Result<(), FileError> {
        let synced = self.temporary.as_file().sync_data();
        synced.map_err(|cause| FileError::new("written", &self.target, cause))
    }

    /// Makes it last on the disk and gives it its name. Returns the name that a file got that was set aside.
    ///
    /// # Errors
    /// [`FileError`]; then the name stands for what it stood for before.
    pub fn finish(self, taken: Taken) -> Result<Option<PathBuf>, FileError> {
        let target = self.target;
        let failed = |cause| FileError::new("written", &target, cause);
        self.temporary.as_file().sync_all().map_err(failed)?;
        let mut aside = None;
        let named = match taken {
            Taken::Refuse => self.temporary.persist_noclobber(&target),
            Taken::Replace => self.temporary.persist(&target),
            Taken::SetAside(now) => {
                aside = set_aside(&target, now).map_err(failed)?;
                self.temporary.persist(&target)
            }
        };
        if let Err(error) = named {
            aside.iter().for_each(|aside| put_back(aside, &target));
            return Err(failed(error.error));
        }
        if let Err(cause) = sync_folder(folder_of(&target)) {
            // what was replaced is gone: then the new one is all there is
            if taken == Taken::Replace {
                return Err(FileError::new(LASTING, &target, cause));
            }
            take_back(&target, aside.as_deref());
            return Err(failed(cause));
        }
        Ok(aside)
    }
}

/// Takes its name back from a file of ours, and gives it to what had it before.
pub(crate) fn take_back(target: &Path, aside: Option<&Path>) {
    let _ = match aside {
        Some(aside) => fs::rename(aside, target),
        None => fs::remove_file(target),
    };
}

/// Undoes [`set_aside`] where nothing took the name.
fn put_back(aside: &Path, target: &Path) {
    // to rename one of two names for the same file does nothing
    let _ = match fs::symlink_metadata(target) {
        Ok(_) => fs::remove_file(aside),
        Err(_) => fs::rename(aside, target),
    };
}

/// What temporary files of ours are called first.
pub(crate) const TEMPORARY: &str = ".ninekeys-";

/// The names that something can be set aside under: they say when, and count where one is taken.
pub(crate) fn aside_names(target: &Path, now: Timestamp) -> impl Iterator<Item = PathBuf> {
    (0..1_000u32).map(move |number| {
        let mut name = target.file_name().unwrap_or_default().to_owned();
        name.push(now.strftime(".replaced-%Y%m%dT%H%M%SZ").to_string());
        if number > 0 {
            name.push(format!("-{number}"));
        }
        target.with_file_name(name)
    })
}

/// Gives what bears the name another one beside it, so that both names stand for it until the first is taken.
pub(crate) fn set_aside(target: &Path, now: Timestamp) -> io::Result<Option<PathBuf>> {
    if fs::symlink_metadata(target).is_err() {
        return Ok(None);
    }
    for aside in aside_names(target, now) {
        match fs::hard_link(target, &aside) {
            Ok(()) => return Ok(Some(aside)),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            // a file system without links: for a moment the name stands for nothing
            Err(_) => {
                if fs::symlink_metadata(&aside).is_err() {
                    return fs::rename(target, &aside).map(|()| Some(aside));
                }
            }
        }
    }
    Err(io::ErrorKind::AlreadyExists.into())
}

impl Sink for OutputFile {
    fn write_at(&self, at: u64, bytes: &[u8]) -> io::Result<()> {
        let _turn = self.turn.lock().unwrap_or_else(PoisonError::into_inner);
        write_all_at(self.temporary.as_file(), at, bytes)
    }
}

#[cfg(unix)]
pub(crate) fn write_all_at(file: &File, at: u64, bytes: &[u8]) -> io::Result<()> {
    std::os::unix::fs::FileExt::write_all_at(file, bytes, at)
}

#[cfg(windows)]
pub(crate) fn write_all_at(file: &File, mut at: u64, mut bytes: &[u8]) -> io::Result<()> {
    while !bytes.is_empty() {
        let n = std::os::windows::fs::FileExt::seek_write(file, bytes, at)?;
        at += n as u64;
        bytes = bytes.get(n..).unwrap_or_default();
    }
    Ok(())
}

/// Whether a path leads to the file that is open.
#[cfg(unix)]
pub(crate) fn is_same(file: &File, path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let of = |found: std::io::Result<std::fs::Metadata>| found.map(|found| (found.dev(), found.ino())).ok();
    of(file.metadata()) == of(std::fs::metadata(path))
}

#[cfg(not(unix))]
pub(crate) fn is_same(_file: &File, _path: &Path) -> bool {
    true
}

/// Writes a whole small file. Returns the name that a file got that was set aside.
///
/// # Errors
/// [`FileError`]; then the target is as it was.
pub fn write_whole(
    target: &Path,
    bytes: &[u8],
    access: Access,
    taken: Taken,
) -> Result<Option<PathBuf>, FileError> {
    let mut output = OutputFile::begin(target, access)?;
    let failed = |cause| FileError::new("written", target, cause);
    output.temporary.write_all(bytes).map_err(failed)?;
    output.finish(taken)
}

/// Writes a note that nothing depends on: whole or not at all, and not waited for.
pub(crate) fn write_note(target: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut note = tempfile::NamedTempFile::new_in(folder_of(target))?;
    note.write_all(bytes)?;
    note.persist(target).map(|_| ()).map_err(|error| error.error)
}

/// Makes a folder and those above it.
///
/// # Errors
/// [`FileError`].
pub fn make_folder(path: &Path) -> Result<(), FileError> {
    NewFolders::make(path).map(NewFolders::keep)
}

/// Folders that were made on the way to an output; those that stayed empty go again unless they are kept.
#[derive(Debug)]
pub(crate) struct NewFolders(Vec<PathBuf>);

impl NewFolders {
    /// Makes a folder and those above it.
    ///
    /// # Errors
    /// [`FileError`].
    pub fn make(path: &Path) -> Result<Self, FileError> {
        let missing =
            path.ancestors().take_while(|folder| !folder.as_os_str().is_empty() && !folder.exists());
        let made = NewFolders(missing.map(Path::to_owned).collect());
        let failed = |cause| FileError::new("made", path, cause);
        fs::create_dir_all(path).map_err(failed)?;
        made.0.iter().try_for_each(|folder| sync_folder(folder_of(folder))).map_err(failed)?;
        Ok(made)
    }

    /// Lets them stay.
    pub fn keep(mut self) {
        self.0.clear();
    }
}

impl Drop for NewFolders {
    fn drop(&mut self) {
        for folder in &self.0 {
            // one that has something in it by now stays
            let _ = fs::remove_dir(folder);
        }
    }
}

/// The folder that a file is in.
pub(crate) fn folder_of(path: &Path) -> &Path {
    match path.parent() {
        Some(parent) if parent.as_os_str().is_empty() => Path::new("."),
        Some(parent) => parent,
        None => Path::new("."),
    }
}

/// A rename lasts once its folder is on the disk. Systems that cannot open or sync a folder do so by themselves.
pub(crate) fn sync_folder(folder: &Path) -> io::Result<()> {
    let Ok(open) = OpenOptions::new().read(true).open(folder) else { return Ok(()) };
    match open.sync_all() {
        Err(error) if !matches!(error.kind(), io::ErrorKind::InvalidInput | io::ErrorKind::Unsupported) => {
            Err(error)
        }
        _ => Ok(()),
    }
}

/// An empty file for its owner alone, for another writer to fill.
pub(crate) fn empty_private(path: &Path) -> Result<(), FileError> {
    let mut options = OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    options.open(path).map(|_| ()).map_err(|cause| FileError::new("written", path, cause))
}

/// Moves a finished file to its name, never over another.
///
/// # Errors
/// [`FileError`]; the file has its earlier name then, also where the new one would not last.
pub(crate) fn move_into_place(from: &Path, target: &Path) -> Result<(), FileError> {
    let failed = |cause| FileError::new("written", target, cause);
    File::open(from).and_then(|file| file.sync_all()).map_err(failed)?;
    rename(from, target).map_err(failed)?;
    sync_folder(folder_of(target)).map_err(|cause| {
        let _ = rename(target, from);
        failed(cause)
    })
}

/// Gives a file another name, never over another file.
pub(crate) fn rename(from: &Path, target: &Path) -> io::Result<()> {
    let from = tempfile::TempPath::try_from_path(from)?;
    from.persist_noclobber(target).map_err(|error| {
        // it stays where it is: the caller may have another name for it
        let _ = error.path.keep();
        error.error
    })
}

/// SHA-256 of a whole file, in hexadecimal; of a folder, [what it is known by](crate::folder::sha256).
///
/// # Errors
/// [`FileError`].
pub(crate) fn sha256(path: &Path, env: &Env<'_>) -> Result<String, FileError> {
    if path.is_dir() {
        return crate::folder::sha256(path, env);
    }
    let input = InputFile::open(path)?;
    let failed = |error| match error {
        DigestError::Read(error) => FileError::new("read", path, error.cause),
        other => FileError::new("read", path, io::Error::other(other)),
    };
    source_sha256(&input, env).map_err(failed)
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "tests write their own files")]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_whole_or_absent_and_never_replaces_unasked() {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("out");
        let begun = OutputFile::begin(&target, Access::Usual).unwrap();
        begun.put(0, b"half").unwrap();
        drop(begun);
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0, "nothing is left behind");
        write_whole(&target, b"one", Access::Usual, Taken::Refuse).unwrap();
        let error = write_whole(&target, b"two", Access::Usual, Taken::Refuse).unwrap_err();
        assert_eq!(error.cause.kind(), io::ErrorKind::AlreadyExists);
        assert_eq!(fs::read(&target).unwrap(), b"one");
        write_whole(&target, b"three", Access::Usual, Taken::Replace).unwrap();
        assert_eq!(fs::read(&target).unwrap(), b"three");
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    }

    #[test]
    fn what_is_set_aside_keeps_its_bytes_under_a_name_that_says_when() {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("out");
        let now = Taken::SetAside("2031-05-19T12:00:00Z".parse().unwrap());
        assert_eq!(write_whole(&target, b"one", Access::Usual, now).unwrap(), None);
        for (text, before, name) in [
            ("two", "one", "out.replaced-20310519T120000Z"),
            ("three", "two", "out.replaced-20310519T120000Z-1"),
        ] {
            let aside = write_whole(&target, text.as_bytes(), Access::Usual, now).unwrap().unwrap();
            assert_eq!(aside, folder.path().join(name));
            assert_eq!(fs::read(aside).unwrap(), before.as_bytes());
            assert_eq!(fs::read(&target).unwrap(), text.as_bytes());
        }
    }

    #[cfg(unix)]
    #[test]
    fn what_is_secret_is_for_its_owner_also_when_it_replaces_an_open_file() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("secret");
        write_whole(&target, b"open", Access::Usual, Taken::Refuse).unwrap();
        write_whole(&target, b"secret", Access::Owner, Taken::Replace).unwrap();
        assert_eq!(fs::metadata(&target).unwrap().permissions().mode() & 0o777, 0o600);
    }

    #[test]
    fn a_folder_is_not_a_file() {
        let folder = tempfile::tempdir().unwrap();
        let error = InputFile::open(folder.path()).unwrap_err();
        assert!(error.to_string().ends_with("could not be read: it is a folder"), "{error}");
    }

    #[test]
    fn folders_made_on_the_way_go_again_unless_kept_or_used() {
        let folder = tempfile::tempdir().unwrap();
        let deep = folder.path().join("a/b/c");
        drop(NewFolders::make(&deep).unwrap());
        assert!(!folder.path().join("a").exists());
        let made = NewFolders::make(&deep).unwrap();
        write_whole(&folder.path().join("a/b/file"), b"x", Access::Usual, Taken::Refuse).unwrap();
        drop(made);
        assert!(!deep.exists() && folder.path().join("a/b/file").is_file(), "what is used stays");
        NewFolders::make(&deep).unwrap().keep();
        assert!(deep.is_dir());
        drop(NewFolders::make(&deep).unwrap());
        assert!(deep.is_dir(), "what was there before stays");
        let error = NewFolders::make(&folder.path().join("a/b/file/d")).unwrap_err();
        assert!(error.to_string().contains("could not be made"), "{error}");
    }

    #[test]
    fn a_finished_file_is_moved_and_never_over_another_unasked() {
        let folder = tempfile::tempdir().unwrap();
        let (from, to) = (folder.path().join("from"), folder.path().join("to"));
        fs::write(&from, b"one").unwrap();
        move_into_place(&from, &to).unwrap();
        assert!(!from.exists() && fs::read(&to).unwrap() == b"one");
        fs::write(&from, b"two").unwrap();
        assert!(move_into_place(&from, &to).is_err());
        assert_eq!(fs::read(&to).unwrap(), b"one");
    }

    #[test]
    fn a_file_is_read_at_any_position_and_only_up_to_the_limit() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("bytes");
        fs::write(&path, b"0123456789").unwrap();
        let file = InputFile::open(&path).unwrap();
        assert_eq!(file.bytes(3..6, 10).unwrap(), b"345");
        assert!(file.bytes(8..11, 10).is_err());
        assert_eq!(read_whole(&path, 10).unwrap(), b"0123456789");
        let error = read_whole(&path, 9).unwrap_err();
        assert!(error.to_string().contains("larger than"), "{error}");
    }

    #[test]
    fn a_file_that_is_written_to_while_it_is_read_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("build.ipa");
        fs::write(&path, b"ferry").unwrap();
        let file = InputFile::open(&path).unwrap();
        file.refuse_changed(&path).unwrap();
        let appended = OpenOptions::new().append(true).open(&path).unwrap();
        (&appended).write_all(b"!").unwrap();
        let error = file.refuse_changed(&path).unwrap_err();
        assert!(error.to_string().contains("it was written to while it was read"), "{error}");
    }
}
