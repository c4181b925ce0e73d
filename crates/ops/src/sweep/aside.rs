//! What is proven to be in the cabinet, or dead, is moved out of the way; a list brings it back.

use std::fs::{self, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Found, SweepError, What};
use crate::ctx::Ctx;
use crate::files::{self, FileError, NewFolders};
use crate::outputs;

/// The name of the list in the folder.
pub const LIST: &str = "moved.jsonl";

/// The most that a list has.
const MOST_LIST: u64 = 64 << 20;

/// Something that was moved, a line of the list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Moved {
    /// Where it was.
    pub from: String,
    /// Its name in the folder.
    pub to: String,
}

/// Whether something is proven to be a copy of what the cabinet holds, or good for nothing any more.
fn may_go(one: &Found, now: Timestamp) -> bool {
    let held = one.item.is_some();
    match one.what {
        What::PrivateKey => held,
        What::Profile => held || one.not_after.is_some_and(|end| end < now),
        // what a password guards can be compared where it was opened
        What::Keystore | What::ServiceKey => one.held_whole,
        // a certificate proves nothing of the key beside it
        What::Certificate | What::EncryptedKey | What::Password | What::UnlockFile | What::RecoveryPiece => {
            false
        }
    }
}

/// Moves what may go into a folder. Each line of the list is on the disk before its file is moved.
///
/// # Errors
/// [`SweepError`]; what was moved before stands in `moved` and in the list.
pub(super) fn set_aside(
    ctx: &Ctx<'_>,
    found: &[Found],
    to: &Path,
    moved: &mut Vec<Moved>,
) -> Result<(), SweepError> {
    let folder = ctx.path(to);
    let list = folder.join(LIST);
    outputs::refuse_ours(ctx, &[&list], &[])?;
    let candidates = found.iter().filter(|one| one.commit.is_none() && may_go(one, ctx.env.now));
    let mut paths: Vec<&str> = candidates.map(|one| one.path.as_str()).collect();
    // a file with several things in it goes when all of them may
    let stays = |path: &str| found.iter().any(|one| one.path == path && !may_go(one, ctx.env.now));
    paths.dedup();
    paths.retain(|path| !stays(path));
    if paths.is_empty() {
        return Ok(());
    }
    let folders = NewFolders::make(&folder)?;
    let mut lines = Lines::open(&list)?;
    for path in paths {
        let from = ctx.path(Path::new(path));
        let name = free(&folder, &from);
        let one = Moved { from: from.display().to_string(), to: name.clone() };
        lines.add(&one)?;
        if let Err(error) = put(&from, &folder.join(&name)) {
            match from.exists() {
                true => lines.take_back(&one),
                // it went, and it may not last: that it went is told
                false => moved.push(one),
            }
            return Err(error);
        }
        moved.push(one);
    }
    folders.keep();
    Ok(())
}

/// The list while it is written: whole lines alone, and no list where nothing was moved.
struct Lines {
    path: PathBuf,
    file: fs::File,
    /// How long it is, in bytes.
    length: u64,
}

impl Lines {
    /// Opens it behind its last whole line: what a kill left of a line speaks of nothing that was moved.
    fn open(path: &Path) -> Result<Self, SweepError> {
        let failed = |cause| FileError::new("written", path, cause);
        let before = if path.exists() { files::read_whole(path, MOST_LIST)? } else { Vec::new() };
        let length = whole_lines(&before).len() as u64;
        let file = OpenOptions::new().append(true).create(true).open(path).map_err(failed)?;
        if length < before.len() as u64 {
            file.set_len(length).map_err(failed)?;
        }
        Ok(Lines { path: path.to_owned(), file, length })
    }

    fn line(one: &Moved) -> String {
        serde_json::to_string(one).unwrap_or_default() + "\n"
    }

    fn add(&mut self, one: &Moved) -> Result<(), SweepError> {
        let line = Self::line(one);
        let noted = self.file.write_all(line.as_bytes()).and_then(|()| self.file.sync_all());
        if let Err(cause) = noted {
            let _ = self.file.set_len(self.length);
            return Err(FileError::new("written", &self.path, cause).into());
        }
        self.length += line.len() as u64;
        Ok(())
    }

    /// Takes the last line out again: its file stayed where it was.
    fn take_back(&mut self, last: &Moved) {
        let length = self.length.saturating_sub(Self::line(last).len() as u64);
        if self.file.set_len(length).is_ok() {
            self.length = length;
        }
    }
}

impl Drop for Lines {
    fn drop(&mut self) {
        if self.length == 0 {
            let _ = fs::remove_file(&self.path);
        }
    }
}

/// A list without what stands behind its last line's end, if that is a line of ours that was not finished.
fn whole_lines(list: &[u8]) -> &[u8] {
    const START: &[u8] = b"{\"from\":\"";
    let end = list.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
    let (whole, rest) = list.split_at(end);
    if START.starts_with(rest) || rest.starts_with(START) { whole } else { list }
}

/// Brings back what a list says; what has another file in its place now stays where it is.
///
/// # Errors
/// [`SweepError`].
pub(super) fn bring_back(ctx: &Ctx<'_>, list: &Path) -> Result<(Vec<Moved>, Vec<Moved>), SweepError> {
    let path = ctx.path(list);
    let bytes = files::read_whole(&path, MOST_LIST)?;
    let wrong = || {
        let cause = std::io::Error::new(std::io::ErrorKind::InvalidData, "it is no list of what was moved");
        SweepError::from(FileError::new("read", &path, cause))
    };
    let text = std::str::from_utf8(whole_lines(&bytes)).map_err(|_| wrong())?;
    let folder = files::folder_of(&path).to_owned();
    let (mut back, mut left) = (Vec::new(), Vec::new());
    for line in text.lines() {
        let one: Moved = serde_json::from_str(line).map_err(|_| wrong())?;
        // only what lies beside the list is ours to move
        let plain = Path::new(&one.to).components().count() == 1 && !one.to.starts_with('.');
        let from = folder.join(&one.to);
        if !plain {
            return Err(wrong());
        }
        let to = PathBuf::from(&one.from);
        // a list can be made up: nothing is put where the cabinet or its side files would be
        outputs::refuse_ours(ctx, &[&to], &[])?;
        if !from.is_file() {
            continue;
        }
        match to.exists() {
            true => left.push(one),
            false => {
                let moved = NewFolders::make(files::folder_of(&to))
                    .map_err(SweepError::from)
                    .and_then(|folders| put(&from, &to).inspect(|()| folders.keep()));
                if moved.is_ok() || !from.exists() {
                    back.push(one);
                }
                moved.map_err(|cause| cause.after(&[(back.len(), "brought back")]))?;
            }
        }
    }
    Ok((back, left))
}

/// A name that nothing in the folder has.
fn free(folder: &Path, from: &Path) -> String {
    let name = from.file_name().map_or_else(|| "file".into(), |name| name.to_string_lossy().into_owned());
    let name = name.trim_start_matches('.').to_owned();
    ninekeys_core::model::free_name(&name, |name| {
        name == LIST || name.is_empty() || folder.join(name).exists()
    })
}

/// Copies into a file that is there and empty; the bytes are on the disk afterwards.
fn copy(from: &Path, to: &Path) -> std::io::Result<()> {
    let mut source = fs::File::open(from)?;
    let mut target = OpenOptions::new().write(true).open(to)?;
    std::io::copy(&mut source, &mut target)?;
    target.sync_all()
}

/// Moves a file; to another disk as a copy that is on it before the first one goes.
fn put(from: &Path, to: &Path) -> Result<(), SweepError> {
    let failed = |cause| SweepError::from(FileError::new("written", to, cause));
    // a name that somebody took meanwhile is not written over
    match fs::hard_link(from, to) {
        Ok(()) => {}
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => return Err(failed(error)),
        Err(_) => {
            files::empty_private(to)?;
            copy(from, to).inspect_err(|_| drop(fs::remove_file(to))).map_err(failed)?;
        }
    }
    let gone = files::sync_folder(files::folder_of(to)).and_then(|()| fs::remove_file(from));
    gone.inspect_err(|_| drop(fs::remove_file(to))).map_err(failed)?;
    files::sync_folder(files::folder_of(from)).map_err(failed)?;
    Ok(())
}
