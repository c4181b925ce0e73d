//! What this machine remembers: the newest row of every cabinet that it has seen, and what it was about to write when
//! it was cut off. One small folder in the user's state folder; losing it costs the notice of a step back, the
//! clearing up after a kill, and the time of a whole proof where somebody only looks; nothing else.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use ninekeys_cabinet::{Digest, Known, Memory};
use ninekeys_core::digest::sha256_hex;
use schemars::JsonSchema;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::files;

/// More than any note of ours has.
const LIMIT: u64 = 1 << 20;
const HEADS: &str = "heads";
const PLACES: &str = "places";
const OUTGOING: &str = "outgoing";

/// What is locked while a head is compared and written.
const HEADS_LOCK: &str = "heads.lock";

/// This machine's memory, or that it has none.
#[derive(Debug)]
pub struct MachineMemory {
    folder: Option<PathBuf>,
    name: String,
    /// The heads that this process has held its cabinets against.
    seen: Mutex<BTreeMap<Digest, Option<Known>>>,
}

/// Which cabinet was at a place.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Place {
    path: String,
    identity: Digest,
}

impl MachineMemory {
    /// In this folder, on the machine of this name.
    pub fn new(folder: Option<PathBuf>, name: String) -> Self {
        MachineMemory { folder, name, seen: Mutex::default() }
    }

    /// A machine that remembers nothing.
    pub fn none() -> Self {
        MachineMemory::new(None, "unknown".into())
    }

    /// Whether there is a folder to remember in.
    pub(crate) fn is_kept(&self) -> bool {
        self.folder.is_some()
    }

    /// Where notes of what is on its way out are kept.
    pub(crate) fn outgoing(&self) -> Option<PathBuf> {
        self.folder.as_ref().map(|folder| folder.join(OUTGOING))
    }

    fn file(&self, kind: &str, name: &str) -> Option<PathBuf> {
        self.folder.as_ref().map(|folder| folder.join(kind).join(name))
    }

    fn read<T: DeserializeOwned>(&self, kind: &str, name: &str) -> Option<T> {
        let bytes = files::read_whole(&self.file(kind, name)?, LIMIT).ok()?;
        serde_json::from_slice(&bytes).ok()
    }

    fn seen(&self) -> MutexGuard<'_, BTreeMap<Digest, Option<Known>>> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps others from writing heads meanwhile; without a lock to be had nobody is kept.
    fn lock_heads(&self) -> Option<File> {
        let path = self.folder.as_ref()?.join(HEADS_LOCK);
        private_folder(files::folder_of(&path)).ok()?;
        let mut options = OpenOptions::new();
        options.write(true).create(true).truncate(false);
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
        let file = options.open(path).ok()?;
        file.lock().ok()?;
        Some(file)
    }

    /// Writes a note; one that cannot be written is not remembered, which is no error.
    fn write(&self, kind: &str, name: &str, note: &impl Serialize) {
        let Some(path) = self.file(kind, name) else { return };
        let Ok(bytes) = serde_json::to_vec(note) else { return };
        if files::read_whole(&path, LIMIT).is_ok_and(|known| known == bytes) {
            return;
        }
        if private_folder(files::folder_of(&path)).is_ok() {
            let _ = files::write_note(&path, &bytes);
        }
    }
}

/// A folder for its owner alone, and those above it.
pub(crate) fn private_folder(path: &Path) -> std::io::Result<()> {
    let mut builder = fs::DirBuilder::new();
    builder.recursive(true);
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    builder.create(path)
}

/// This machine's name without its memory: for a cabinet that a person goes back to, whatever is known.
pub(crate) struct NameOnly<'a>(pub(crate) &'a MachineMemory);

impl Memory for NameOnly<'_> {
    fn machine(&self) -> String {
        self.0.name.clone()
    }
}

fn place_name(path: &Path) -> String {
    let whole = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    sha256_hex(whole.as_os_str().as_encoded_bytes())
}

impl Memory for MachineMemory {
    fn known(&self, identity: &Digest) -> Option<Known> {
        let known: Option<Known> = self.read(HEADS, &identity.to_string());
        self.seen().insert(*identity, known.clone());
        known
    }

    fn at(&self, path: &Path) -> Option<Digest> {
        self.read::<Place>(PLACES, &place_name(path)).map(|place| place.identity)
    }

    fn keep(&self, path: &Path, identity: &Digest, known: &Known) {
        let _lock = self.lock_heads();
        let name = identity.to_string();
        let held_against = self.seen().get(identity).cloned();
        // another process may have gone on, or back to a copy, since this one looked: what it wrote is the newer
        let head = |known: Option<Known>| known.map(|known| known.head);
        if held_against.is_none_or(|seen| head(seen) == head(self.read(HEADS, &name))) {
            self.write(HEADS, &name, known);
            self.seen().insert(*identity, Some(known.clone()));
        }
        let place = Place { path: path.display().to_string(), identity: *identity };
        self.write(PLACES, &place_name(path), &place);
    }

    fn machine(&self) -> String {
        self.name.clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ninekeys_cabinet::Head;

    fn digest(letter: &str) -> Digest {
        Digest::from_text(&letter.repeat(64)).unwrap()
    }

    #[test]
    fn heads_and_places_come_back_and_notes_that_are_none_are_no_memory() {
        let folder = tempfile::tempdir().unwrap();
        let state = folder.path().join("state/ninekeys");
        let memory = MachineMemory::new(Some(state.clone()), "wharf".into());
        let path = folder.path().join("cabinet");
        assert!(memory.known(&digest("a")).is_none() && memory.at(&path).is_none());
        let at = |seq, letter| Known {
            head: Head { seq, hash: digest(letter) },
            managers: vec!["00".into()],
            listing: None,
            pinned: None,
        };
        let known = at(3, "b");
        memory.keep(&path, &digest("a"), &known);
        assert_eq!(memory.known(&digest("a")), Some(known));
        assert_eq!(memory.at(&path), Some(digest("a")));
        // who looked before somebody else went on does not take that back
        let (late, other) =
            [&state, &state].map(|state| MachineMemory::new(Some(state.clone()), "pier".into())).into();
        let newer = at(2, "c");
        assert!(late.known(&digest("a")).is_some() && other.known(&digest("a")).is_some());
        other.keep(&path, &digest("a"), &newer);
        late.keep(&path, &digest("a"), &at(4, "d"));
        assert_eq!(memory.known(&digest("a")), Some(newer));
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            assert_eq!(state.metadata().unwrap().permissions().mode() & 0o777, 0o700);
        }
        let note = state.join(HEADS).join(digest("a").to_string());
        files::write_note(&note, b"not a note").unwrap();
        assert!(memory.known(&digest("a")).is_none());
        let nothing = MachineMemory::none();
        nothing.keep(&path, &digest("a"), &at(3, "b"));
        assert!(nothing.at(&path).is_none());
    }
}
