//! Folders that are builds: read with everything in them by path, and written whole or not at all.

use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use ninekeys_core::digest::sha256_hex;
use ninekeys_core::env::Env;
use ninekeys_core::ios::tree::{Kind, Node, Tree, TreeError};
use ninekeys_core::stream::source_sha256;
use ninekeys_formats::source::Source;
use rayon::prelude::*;

use crate::files::{FileError, InputFile, Taken, aside_names, folder_of, sync_folder};

/// The most files of an app's folder.
const MOST_FILES: usize = 500_000;
/// How much of a file is read at a time.
const WINDOW: u64 = 256 << 10;
/// The rights of a file and of a folder that nothing is said of.
pub(crate) const USUAL_FILE: u32 = 0o644;
pub(crate) const USUAL_FOLDER: u32 = 0o755;

/// The folder of an app, with everything in it by path.
pub(crate) struct FolderTree {
    nodes: Vec<Node>,
    places: Vec<Placed>,
    faults: Vec<String>,
}

/// Where a node is, and what the system said of it.
struct Placed {
    path: PathBuf,
    modified: Option<SystemTime>,
    mode: u32,
}

impl FolderTree {
    /// Walks a folder; links are not followed.
    ///
    /// # Errors
    /// [`FileError`] when something in it cannot be looked at, or there is too much of it.
    pub(crate) fn read(folder: &Path) -> Result<Self, FileError> {
        let absolute = std::path::absolute(folder).map_err(|cause| FileError::new("read", folder, cause))?;
        let name = absolute.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        Self::read_as(&absolute, &name)
    }

    /// Walks a folder that has, or will have, that name.
    ///
    /// # Errors
    /// As [`FolderTree::read`].
    pub(crate) fn read_as(folder: &Path, name: &str) -> Result<Self, FileError> {
        let mut faults = Vec::new();
        let mut open = vec![(folder.to_owned(), name.to_owned())];
        let mut found: Vec<(Node, Placed)> = Vec::new();
        while let Some((place, path)) = open.pop() {
            let failed = |cause| FileError::new("read", &place, cause);
            for entry in fs::read_dir(&place).map_err(failed)? {
                let entry = entry.map_err(failed)?;
                let own = entry.file_name();
                let Some(own) = own.to_str() else {
                    faults.push(format!("{path}: the name {own:?} in it is not UTF-8"));
                    continue;
                };
                let path = format!("{path}/{own}");
                if let Some((node, placed)) = node(&entry, &path, &mut faults).map_err(failed)? {
                    if node.kind == Kind::Folder {
                        open.push((entry.path(), path));
                    }
                    found.push((node, placed));
                }
                if found.len() > MOST_FILES {
                    let too_many = io::Error::other("it holds more than an app does");
                    return Err(failed(too_many));
                }
            }
        }
        found.sort_by(|(one, _), (other, _)| one.path.cmp(&other.path));
        let (nodes, places) = found.into_iter().unzip();
        Ok(FolderTree { nodes, places, faults })
    }

    /// The rights of a node.
    pub(crate) fn mode(&self, index: usize) -> u32 {
        self.places.get(index).map_or(USUAL_FILE, |placed| placed.mode)
    }

    /// Refuses a folder in which somebody wrote since it was walked: what was read first is then not what was read later.
    ///
    /// # Errors
    /// [`FileError`].
    pub(crate) fn refuse_changed(&self) -> Result<(), FileError> {
        for (node, placed) in self.nodes.iter().zip(&self.places) {
            let failed = |cause| FileError::new("read", &placed.path, cause);
            let now = fs::symlink_metadata(&placed.path).map_err(failed)?;
            let is_same = node.kind == Kind::Folder || now.len() == node.size;
            if !is_same || now.modified().ok() != placed.modified {
                return Err(failed(io::Error::other("it was written to while it was read")));
            }
        }
        Ok(())
    }
}

fn node(entry: &fs::DirEntry, path: &str, faults: &mut Vec<String>) -> io::Result<Option<(Node, Placed)>> {
    let found = entry.metadata()?;
    let kind = match found.file_type() {
        kind if kind.is_dir() => Kind::Folder,
        kind if kind.is_symlink() => Kind::Link,
        kind if kind.is_file() => Kind::File,
        _ => {
            faults.push(format!("{path}: it is neither a file, nor a folder, nor a link"));
            return Ok(None);
        }
    };
    let size = if kind == Kind::Folder { 0 } else { found.len() };
    let node = Node { path: path.to_owned(), kind, size, packed: size };
    Ok(Some((node, Placed { path: entry.path(), modified: found.modified().ok(), mode: mode_of(&found) })))
}

#[cfg(unix)]
fn mode_of(found: &fs::Metadata) -> u32 {
    // who owns it reads it and writes it: a folder without that could not be filled
    let needed = if found.is_dir() { 0o700 } else { 0o600 };
    std::os::unix::fs::PermissionsExt::mode(&found.permissions()) & 0o777 | needed
}

#[cfg(not(unix))]
fn mode_of(found: &fs::Metadata) -> u32 {
    if found.is_dir() { USUAL_FOLDER } else { USUAL_FILE }
}

impl Tree for FolderTree {
    fn nodes(&self) -> &[Node] {
        &self.nodes
    }

    fn stream(&self, index: usize, take: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), TreeError> {
        let (Some(node), Some(placed)) = (self.nodes.get(index), self.places.get(index)) else {
            return Ok(());
        };
        let failed = |cause| TreeError::File { path: node.path.clone(), cause };
        match node.kind {
            Kind::Folder => {}
            Kind::Link => {
                let target = fs::read_link(&placed.path).map_err(failed)?;
                take(target.to_string_lossy().as_bytes());
            }
            Kind::File => {
                let file = InputFile::open(&placed.path).map_err(|error| failed(io::Error::other(error)))?;
                let mut at = 0;
                while at < file.len() {
                    let end = (at + WINDOW).min(file.len());
                    if !take(&file.bytes(at..end, WINDOW)?) {
                        break;
                    }
                    at = end;
                }
            }
        }
        Ok(())
    }

    fn faults(&self) -> Vec<String> {
        self.faults.clone()
    }

    fn is_readable(&self) -> bool {
        true
    }

    fn is_folder(&self) -> bool {
        true
    }

    fn size(&self) -> u64 {
        self.nodes.iter().map(|node| node.size).sum()
    }
}

/// What a folder is known by, in hexadecimal: SHA-256 over what is in it, in the order of the paths. Of each file
/// `f SHA-256 PATH`, of each link `l SHA-256-OF-ITS-TARGET PATH`, with a zero byte behind; paths begin below the folder.
///
/// # Errors
/// [`FileError`].
pub(crate) fn sha256(folder: &Path, env: &Env<'_>) -> Result<String, FileError> {
    let tree = FolderTree::read_as(folder, "")?;
    let one = |(node, placed): (&Node, &Placed)| {
        let failed = |cause| FileError::new("read", &placed.path, cause);
        let (kind, hash) = match node.kind {
            Kind::Folder => return Ok(String::new()),
            Kind::Link => {
                let target = fs::read_link(&placed.path).map_err(failed)?;
                ('l', sha256_hex(target.as_os_str().as_encoded_bytes()))
            }
            Kind::File => {
                let file = InputFile::open(&placed.path)?;
                ('f', source_sha256(&file, env).map_err(|error| failed(io::Error::other(error)))?)
            }
        };
        Ok(format!("{kind} {hash} {}\0", node.path.trim_start_matches('/')))
    };
    let lines: Result<Vec<String>, FileError> = tree.nodes.par_iter().zip(&tree.places).map(one).collect();
    Ok(sha256_hex(lines?.concat().as_bytes()))
}

/// A folder that gets its name only when all of it is there. Dropped before that, it leaves nothing behind.
#[derive(Debug)]
pub(crate) struct OutputFolder {
    temporary: PathBuf,
    target: PathBuf,
}

impl OutputFolder {
    /// Begins a folder beside `target`, under a name that is known beforehand.
    ///
    /// # Errors
    /// [`FileError`].
    pub(crate) fn begin_named(target: &Path, name: &str) -> Result<Self, FileError> {
        let temporary = target.with_file_name(name);
        fs::create_dir(&temporary).map_err(|cause| FileError::new("written", target, cause))?;
        Ok(OutputFolder { temporary, target: target.to_owned() })
    }

    /// Where it stands until it has its name.
    pub(crate) fn path(&self) -> &Path {
        &self.temporary
    }

    /// The name that it will have.
    pub(crate) fn target(&self) -> &Path {
        &self.target
    }

    fn failed(&self, cause: io::Error) -> FileError {
        FileError::new("written", &self.target, cause)
    }

    /// Makes a folder in it, and those above.
    ///
    /// # Errors
    /// [`FileError`].
    pub(crate) fn folder(&self, path: &str, mode: u32) -> Result<(), FileError> {
        let place = self.temporary.join(path);
        fs::create_dir_all(&place).and_then(|()| give_mode(&place, mode)).map_err(|cause| self.failed(cause))
    }

    /// Makes a link in it.
    ///
    /// # Errors
    /// [`FileError`]; on systems without links, always.
    pub(crate) fn link(&self, path: &str, to: &str) -> Result<(), FileError> {
        make_link(to, &self.temporary.join(path)).map_err(|cause| self.failed(cause))
    }

    /// Makes a file in it that lasts: `fill` gives its bytes.
    ///
    /// # Errors
    /// [`FileError`], or what `fill` fails with.
    pub(crate) fn file<E: From<FileError>>(
        &self,
        path: &str,
        mode: u32,
        fill: impl FnOnce(&mut dyn FnMut(&[u8]) -> bool) -> Result<(), E>,
    ) -> Result<(), E> {
        let place = self.temporary.join(path);
        let mut options = OpenOptions::new();
        options.write(true).create_new(true);
        let mut file = options.open(&place).map_err(|cause| self.failed(cause))?;
        let mut cut = None;
        let filled = fill(&mut |bytes| {
            cut = file.write_all(bytes).err();
            cut.is_none()
        });
        if let Some(cause) = cut {
            return Err(self.failed(cause).into());
        }
        filled?;
        let lasting = give_mode(&place, mode).and_then(|()| file.sync_all());
        lasting.map_err(|cause| self.failed(cause).into())
    }

    /// Makes it last and gives it its name. Returns the name that what had it got.
    ///
    /// # Errors
    /// [`FileError`]; then the name stands for what it stood for before.
    pub(crate) fn finish(self, taken: Taken) -> Result<Option<PathBuf>, FileError> {
        let failed = |cause| FileError::new("written", &self.target, cause);
        let mut open = vec![self.temporary.clone()];
        while let Some(folder) = open.pop() {
            for entry in fs::read_dir(&folder).map_err(failed)? {
                let entry = entry.map_err(failed)?;
                if entry.file_type().map_err(failed)?.is_dir() {
                    open.push(entry.path());
                }
            }
            sync_folder(&folder).map_err(failed)?;
        }
        let aside = match taken {
            Taken::SetAside(now) if fs::symlink_metadata(&self.target).is_ok() => {
                let mut names = aside_names(&self.target, now);
                let free = names.find(|name| rename_to_new(&self.target, name).is_ok());
                Some(free.ok_or_else(|| failed(io::ErrorKind::AlreadyExists.into()))?)
            }
            _ => None,
        };
        if let Err(cause) = rename_to_new(&self.temporary, &self.target) {
            // what was set aside comes back
            aside.iter().for_each(|aside| drop(rename_to_new(aside, &self.target)));
            return Err(failed(cause));
        }
        if let Err(cause) = sync_folder(folder_of(&self.target)) {
            take_back(&self.target, aside.as_deref());
            return Err(failed(cause));
        }
        Ok(aside)
    }
}

impl Drop for OutputFolder {
    fn drop(&mut self) {
        clear(&self.temporary);
    }
}

/// Takes its name back from a folder of ours, and gives it to what had it before.
pub(crate) fn take_back(target: &Path, aside: Option<&Path>) {
    clear(target);
    aside.iter().for_each(|aside| drop(rename_to_new(aside, target)));
}

/// Takes a folder of ours away that has no name yet.
pub(crate) fn clear(temporary: &Path) {
    let is_folder = fs::symlink_metadata(temporary).is_ok_and(|found| found.is_dir());
    if is_folder {
        let _ = fs::remove_dir_all(temporary);
    }
}

/// Gives something a name that nothing has.
fn rename_to_new(from: &Path, to: &Path) -> io::Result<()> {
    let held = tempfile::TempPath::try_from_path(from)?;
    let Err(error) = held.persist_noclobber(to) else { return Ok(()) };
    // it stays where it is
    let _ = error.path.keep();
    // a file system that cannot do so in one step: a folder with something in it is never replaced by a rename
    match fs::symlink_metadata(to) {
        Err(found) if found.kind() == io::ErrorKind::NotFound => fs::rename(from, to),
        _ => Err(error.error),
    }
}

#[cfg(unix)]
fn give_mode(path: &Path, mode: u32) -> io::Result<()> {
    fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(mode))
}

#[cfg(not(unix))]
fn give_mode(_: &Path, _: u32) -> io::Result<()> {
    Ok(())
}

#[cfg(unix)]
fn make_link(to: &str, at: &Path) -> io::Result<()> {
    std::os::unix::fs::symlink(to, at)
}

#[cfg(not(unix))]
fn make_link(_: &str, _: &Path) -> io::Result<()> {
    Err(io::Error::new(io::ErrorKind::Unsupported, "this system makes no links: sign it as an IPA"))
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "tests write their own files")]
mod tests {
    use super::*;

    fn begun(folder: &Path) -> OutputFolder {
        let out = OutputFolder::begin_named(&folder.join("Crossing.app"), ".ninekeys-0-0.part").unwrap();
        out.folder("inner", USUAL_FOLDER).unwrap();
        out.file("inner/a", 0o755, |take| {
            take(b"ferry");
            Ok::<_, FileError>(())
        })
        .unwrap();
        out
    }

    #[test]
    fn a_folder_is_whole_or_absent_and_what_had_its_name_is_set_aside() {
        let home = tempfile::tempdir().unwrap();
        drop(begun(home.path()));
        assert_eq!(fs::read_dir(home.path()).unwrap().count(), 0, "nothing is left behind");
        begun(home.path()).finish(Taken::Refuse).unwrap();
        let target = home.path().join("Crossing.app");
        assert_eq!(fs::read(target.join("inner/a")).unwrap(), b"ferry");
        let error = begun(home.path()).finish(Taken::Refuse).unwrap_err();
        assert_eq!(error.cause.kind(), io::ErrorKind::AlreadyExists);
        let now = Taken::SetAside("2031-05-19T12:00:00Z".parse().unwrap());
        let aside = begun(home.path()).finish(now).unwrap().unwrap();
        assert_eq!(aside, home.path().join("Crossing.app.replaced-20310519T120000Z"));
        assert_eq!(fs::read(aside.join("inner/a")).unwrap(), b"ferry");
        assert_eq!(fs::read_dir(home.path()).unwrap().count(), 2);
    }

    #[cfg(unix)]
    #[test]
    fn a_folder_is_known_by_what_is_in_it_and_not_by_its_name() {
        let home = tempfile::tempdir().unwrap();
        let make = |name: &str, link: &str| {
            let folder = home.path().join(name);
            fs::create_dir_all(folder.join("a")).unwrap();
            fs::write(folder.join("a/b"), b"ferry").unwrap();
            make_link(link, &folder.join("l")).unwrap();
            folder
        };
        let stop = std::sync::atomic::AtomicBool::new(false);
        let env = Env {
            now: "2031-05-19T12:00:00Z".parse().unwrap(),
            keys: &ninekeys_core::keys::SystemKeys,
            progress: &ninekeys_core::env::Silent,
            scratch: &ninekeys_core::stream::InMemory,
            stop: &stop,
        };
        let one = sha256(&make("One.app", "a/b"), &env).unwrap();
        assert_eq!(one, sha256(&make("Two.app", "a/b"), &env).unwrap());
        assert_ne!(one, sha256(&make("Three.app", "a"), &env).unwrap());
        let said = format!("f {} a/b\0l {} l\0", sha256_hex(b"ferry"), sha256_hex(b"a/b"));
        assert_eq!(one, sha256_hex(said.as_bytes()));
    }

    #[test]
    fn a_folder_in_which_somebody_writes_is_told() {
        let home = tempfile::tempdir().unwrap();
        fs::write(home.path().join("a"), b"ferry").unwrap();
        let tree = FolderTree::read_as(home.path(), "Crossing.app").unwrap();
        tree.refuse_changed().unwrap();
        OpenOptions::new().append(true).open(home.path().join("a")).unwrap().write_all(b"!").unwrap();
        let error = tree.refuse_changed().unwrap_err();
        assert!(error.to_string().contains("it was written to while it was read"), "{error}");
    }
}
