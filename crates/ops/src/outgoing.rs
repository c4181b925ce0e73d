//! What leaves the cabinet is written down first. A row of history holds the intention: names, digests, purpose. Then
//! the files get their names, then a row ends the intention. What is cut off in between is brought to its end by the
//! next command: a file that has its name and is the one that was meant is completed; everything else of it goes.
//!
//! The intention never carries a path. Where the temporary files are stands in a note in this machine's state folder,
//! which is locked for as long as the command lives; a start takes away nothing but temporary files that such a note
//! names and that bear its number.

use std::cell::Cell;
use std::fs::{self, File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};

use ninekeys_cabinet::{Cabinet, CabinetError, Change, Digest, IntendedFile, Intention, NewItem};
use ninekeys_core::digest::{from_hex, hex};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::ctx::{Ctx, Notice};
use crate::files::{self, Access, FileError, OutputFile, TEMPORARY, Taken};
use crate::folder::{self, OutputFolder};
use crate::memory::{MachineMemory, private_folder};

/// More than any note has.
const LIMIT: u64 = 1 << 20;
/// What a note is called until it is locked.
const BEGUN: &str = "begun-";

/// The purpose of a loan, which has no files of its own.
pub(crate) const LEND: &str = "lend";

/// One line of a note. Paths are hexadecimal: they need not be text.
#[derive(Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct Line {
    /// The identity of the cabinet whose intention it is; nothing for what no history has to say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    cabinet: Option<Digest>,
    temporary: String,
    target: String,
    secret: bool,
    /// What the finished file is known by before any of them gets its name; nothing until then, and for a folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    made: Option<String>,
}

fn encoded(path: &Path) -> String {
    hex(path.as_os_str().as_encoded_bytes())
}

fn decoded(text: &str) -> Option<PathBuf> {
    String::from_utf8(from_hex(text)?).ok().map(PathBuf::from)
}

/// What gets its name when it is whole.
pub(crate) enum Output {
    /// A file.
    File(OutputFile),
    /// The folder of an app.
    Folder(OutputFolder),
}

impl From<OutputFile> for Output {
    fn from(file: OutputFile) -> Self {
        Output::File(file)
    }
}

impl Output {
    fn target(&self) -> &Path {
        match self {
            Output::File(file) => file.target(),
            Output::Folder(folder) => folder.target(),
        }
    }

    fn finish(self, taken: Taken) -> Result<Named, FileError> {
        let target = self.target().to_owned();
        let (aside, take_back): (_, fn(&Path, Option<&Path>)) = match self {
            Output::File(file) => (file.finish(taken)?, files::take_back),
            Output::Folder(folder) => (folder.finish(taken)?, folder::take_back),
        };
        Ok(Named { target, aside, take_back })
    }
}

/// Something that has its name now.
struct Named {
    target: PathBuf,
    /// The name of what had it before.
    aside: Option<PathBuf>,
    take_back: fn(&Path, Option<&Path>),
}

/// What a file of ours is known by whatever its name: what the system knows it by, its size, and when it was written last.
/// Nobody else's file is that; nor is ours, once somebody wrote to it.
#[cfg(unix)]
fn made(path: &Path) -> Option<String> {
    use std::os::unix::fs::MetadataExt;
    let found = fs::symlink_metadata(path).ok().filter(fs::Metadata::is_file)?;
    let (seconds, part) = (found.mtime(), found.mtime_nsec());
    Some(format!("{}-{}-{}-{seconds}.{part:09}", found.dev(), found.ino(), found.size()))
}

/// Where a system says nothing of the kind, a name that was given stays.
#[cfg(not(unix))]
fn made(_: &Path) -> Option<String> {
    None
}

/// Something on its way out.
#[derive(Debug)]
pub(crate) struct Outgoing {
    id: String,
    cabinet: Option<Digest>,
    note: Option<Note>,
    files: u32,
    /// Whether a row of history holds it: then the row that ends it takes the note away.
    intended: Cell<bool>,
}

impl Drop for Outgoing {
    fn drop(&mut self) {
        if let Some(note) = self.note.as_ref().filter(|_| !self.intended.get()) {
            let _ = fs::remove_file(&note.path);
        }
    }
}

/// A private folder for a file that another writer fills (a database); it goes when dropped.
#[derive(Debug)]
pub(crate) struct Workshop {
    path: PathBuf,
    _outgoing: Outgoing,
}

impl Workshop {
    /// Makes one beside `target`, after a note says where.
    pub(crate) fn begin(ctx: &Ctx<'_>, target: &Path) -> Result<Self, FileError> {
        let failed = |cause| FileError::new("written", target, cause);
        let random = || std::io::Error::other("no randomness");
        let outgoing = Outgoing::make(ctx, None).map_err(|_| failed(random()))?;
        let path = target.with_file_name(format!("{TEMPORARY}{}-{WORKSHOP}", outgoing.id));
        outgoing.note(&path, target, Access::Owner)?;
        let mut builder = fs::DirBuilder::new();
        #[cfg(unix)]
        std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
        builder.create(&path).map_err(failed)?;
        Ok(Workshop { path, _outgoing: outgoing })
    }

    /// The folder itself.
    pub(crate) fn folder(&self) -> &Path {
        &self.path
    }

    /// Where its one file is made.
    pub(crate) fn file(&self) -> PathBuf {
        self.path.join(UNFINISHED)
    }
}

impl Drop for Workshop {
    fn drop(&mut self) {
        clear_workshop(&self.path);
    }
}

/// What a workshop's name ends with, and the one file in it, with what a database puts beside it; a copy of the
/// cabinet stands beside it too, under a temporary name of ours.
const WORKSHOP: &str = "workshop";
const UNFINISHED: &str = "unfinished";

fn clear_workshop(path: &Path) {
    for suffix in ["", "-journal"] {
        let _ = fs::remove_file(path.join(format!("{UNFINISHED}{suffix}")));
    }
    for entry in fs::read_dir(path).into_iter().flatten().flatten() {
        if entry.file_name().to_string_lossy().starts_with(TEMPORARY) {
            let _ = fs::remove_file(entry.path());
        }
    }
    let _ = fs::remove_dir(path);
}

/// The note of one intention; it goes when nothing is left to be said by it.
#[derive(Debug)]
struct Note {
    path: PathBuf,
    file: File,
}

impl Note {
    /// Makes the note, locks it, and only then gives it the name that later starts look for.
    fn begin(folder: &Path, id: &str) -> std::io::Result<Note> {
        private_folder(folder)?;
        let begun = folder.join(format!("{BEGUN}{id}"));
        let mut options = OpenOptions::new();
        options.append(true).create_new(true);
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
        let file = options.open(&begun)?;
        file.lock()?;
        let path = folder.join(id);
        fs::rename(&begun, &path)?;
        Ok(Note { path, file })
    }
}

impl Outgoing {
    /// Begins. Without a state folder there is no note, and what a kill leaves is not cleared up.
    pub(crate) fn begin(ctx: &Ctx<'_>, cabinet: &Cabinet<'_>) -> Result<Self, CabinetError> {
        Self::make(ctx, Some(cabinet.identity()))
    }

    /// Begins what no history has to speak of.
    pub(crate) fn scratch(ctx: &Ctx<'_>) -> Result<Self, CabinetError> {
        Self::make(ctx, None)
    }

    fn make(ctx: &Ctx<'_>, cabinet: Option<Digest>) -> Result<Self, CabinetError> {
        let mut bytes = [0; 16];
        ctx.env.keys.fill(&mut bytes).map_err(|_| CabinetError::Crypto("no randomness"))?;
        let id = hex(&bytes);
        let note = ctx.machine.outgoing().and_then(|folder| Note::begin(&folder, &id).ok());
        Ok(Outgoing { id, cabinet, note, files: 0, intended: Cell::new(false) })
    }

    /// Begins a file, after the note says where.
    pub(crate) fn file(&mut self, target: &Path, access: Access) -> Result<OutputFile, FileError> {
        let name = self.next_name(target, access)?;
        OutputFile::begin_named(target, access, &name)
    }

    /// Begins a folder, after the note says where.
    pub(crate) fn folder(&mut self, target: &Path) -> Result<OutputFolder, FileError> {
        let name = self.next_name(target, Access::Usual)?;
        OutputFolder::begin_named(target, &name)
    }

    fn next_name(&mut self, target: &Path, access: Access) -> Result<String, FileError> {
        let name = format!("{TEMPORARY}{}-{}.part", self.id, self.files);
        self.files += 1;
        self.note(&target.with_file_name(&name), target, access)?;
        Ok(name)
    }

    /// Notes where something of this intention will stand.
    pub(crate) fn note(&self, temporary: &Path, target: &Path, access: Access) -> Result<(), FileError> {
        self.line(temporary, target, access == Access::Owner, None)
    }

    fn line(
        &self,
        temporary: &Path,
        target: &Path,
        secret: bool,
        made: Option<String>,
    ) -> Result<(), FileError> {
        let Some(note) = &self.note else { return Ok(()) };
        let (temporary, target) = (encoded(temporary), encoded(target));
        let line = Line { cabinet: self.cabinet, temporary, target, secret, made };
        let mut text = serde_json::to_vec(&line).unwrap_or_default();
        text.push(b'\n');
        (&note.file).write_all(&text).map_err(|cause| FileError::new("written", &note.path, cause))
    }

    /// Writes a whole file that no history has to speak of, under a note until it has its name.
    pub(crate) fn write_whole(
        ctx: &Ctx<'_>,
        target: &Path,
        bytes: &[u8],
        access: Access,
        taken: Taken,
    ) -> Result<Option<PathBuf>, FileError> {
        let random = |_| FileError::new("written", target, std::io::Error::other("no randomness"));
        let mut outgoing = Outgoing::make(ctx, None).map_err(random)?;
        let output = outgoing.file(target, access)?;
        output.put(0, bytes)?;
        output.finish(taken)
    }

    /// Writes the intention down, gives the files their names, and ends the intention with whatever completes it.
    /// Returns the names of files that were set aside.
    pub(crate) fn deliver<E: From<CabinetError> + From<FileError>>(
        self,
        ctx: &Ctx<'_>,
        cabinet: &mut Cabinet<'_>,
        plan: Plan<'_>,
        files: Vec<(impl Into<Output>, Option<String>)>,
        taken: Taken,
    ) -> Result<Vec<PathBuf>, E> {
        let files: Vec<(Output, Option<String>)> =
            files.into_iter().map(|(output, sha256)| (output.into(), sha256)).collect();
        let intended = files
            .iter()
            .map(|(file, sha256)| IntendedFile {
                name: file.target().file_name().unwrap_or_default().to_string_lossy().into_owned(),
                sha256: sha256.clone(),
            })
            .collect();
        if taken == Taken::Refuse && files.len() > 1 {
            self.mark(&files)?;
        }
        let Plan { what, purpose, from, completes } = plan;
        self.intend(ctx, cabinet, what, purpose, from, intended, completes)?;
        let mut named = Vec::new();
        let all = files.into_iter().try_for_each(|(file, _)| {
            named.push(file.finish(taken)?);
            Ok::<_, FileError>(())
        });
        match all {
            Ok(()) => {
                // what was told of is there and stays: the next start ends the intention as it would after a kill
                let ended = self.end(ctx, cabinet, &format!("{what}: done"), true);
                let aside = named.into_iter().filter_map(|one| one.aside);
                match ended {
                    Ok(()) => Ok(aside.collect()),
                    Err(cause) => {
                        aside.for_each(|path| ctx.notice(Notice::SetAside(path)));
                        Err(CabinetError::Unended(Box::new(cause)).into())
                    }
                }
            }
            Err(error) => {
                named.iter().rev().for_each(|one| (one.take_back)(&one.target, one.aside.as_deref()));
                // what is not ended here is ended by the next command
                let _ = self.end(ctx, cabinet, &format!("{what}: not done"), false);
                Err(error.into())
            }
        }
    }

    /// Notes what the files are known by. A start that finds one of them without its name takes the names of the others
    /// back: all of them, or none.
    fn mark(&self, files: &[(Output, Option<String>)]) -> Result<(), FileError> {
        for (output, _) in files {
            if let Output::File(file) = output {
                self.line(file.path(), file.target(), true, made(file.path()))?;
            }
        }
        Ok(())
    }

    /// Writes the row that comes first.
    #[expect(clippy::too_many_arguments, reason = "one row, said once")]
    pub(crate) fn intend(
        &self,
        ctx: &Ctx<'_>,
        cabinet: &mut Cabinet<'_>,
        what: &str,
        purpose: &str,
        from: &[ninekeys_core::model::ItemId],
        files: Vec<IntendedFile>,
        completes: Option<NewItem>,
    ) -> Result<(), CabinetError> {
        let machine = ninekeys_cabinet::Memory::machine(ctx.machine);
        // from here on a row may say so, whatever becomes of us
        self.intended.set(true);
        let written = cabinet.change(what, &ctx.env, |change| {
            let compartment = compartment(change, from);
            let intention = Intention {
                at: ctx.env.now,
                member: change.member().id,
                machine,
                purpose: purpose.into(),
                what: what.into(),
                compartment,
                files,
                completes: completes.map(|item| (item.name, item.facts)),
            };
            change.begin_intention(&self.id, &intention)
        });
        if written.is_err() {
            self.intended.set(false);
        }
        written
    }

    /// Writes the row that comes last, and takes the note away.
    pub(crate) fn end(
        &self,
        ctx: &Ctx<'_>,
        cabinet: &mut Cabinet<'_>,
        what: &str,
        done: bool,
    ) -> Result<(), CabinetError> {
        cabinet.change(what, &ctx.env, |change| change.end_intention(&self.id, done).map(|_| ()))?;
        if let Some(note) = &self.note {
            let _ = fs::remove_file(&note.path);
        }
        Ok(())
    }
}

/// The one compartment of what leaves; several are as many as shared.
fn compartment(change: &Change<'_>, from: &[ninekeys_core::model::ItemId]) -> String {
    let mut all: Vec<String> = from.iter().map(|id| change.compartment_of(id)).collect();
    all.dedup();
    match all.as_slice() {
        [one] => one.clone(),
        _ => "shared".into(),
    }
}

/// What leaves, why, and what the ledger says of it when it is done.
pub(crate) struct Plan<'a> {
    pub(crate) what: &'a str,
    pub(crate) purpose: &'a str,
    /// The items that leave, or that sign what leaves.
    pub(crate) from: &'a [ninekeys_core::model::ItemId],
    /// An item that is put in with the last row.
    pub(crate) completes: Option<NewItem>,
}

/// Takes away what commands left that were killed: temporary files, secrets first. Their notes stay until the cabinet
/// says what became of them.
pub fn sweep(memory: &MachineMemory) {
    let Some(folder) = memory.outgoing() else { return };
    let Ok(all) = fs::read_dir(&folder) else { return };
    for entry in all.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Some((_lock, lines)) = orphan(&entry.path()) else { continue };
        let id = name.trim_start_matches(BEGUN);
        let own = |path: &PathBuf| {
            let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            name.starts_with(&format!("{TEMPORARY}{id}-")) && id.len() == 32
        };
        let mut temporary: Vec<(bool, PathBuf)> =
            lines.iter().filter_map(|line| Some((!line.secret, decoded(&line.temporary)?))).collect();
        temporary.sort();
        // names first: once the last temporary file is gone, all of them count as given
        take_names_back(&lines, own);
        for (_, path) in temporary.iter().filter(|(_, path)| own(path)) {
            if path.ends_with(format!("{TEMPORARY}{id}-{WORKSHOP}")) {
                clear_workshop(path);
            } else {
                folder::clear(path);
                let _ = fs::remove_file(path);
            }
        }
        let is_nobodys = lines.iter().all(|line| line.cabinet.is_none())
            && !temporary.iter().any(|(_, path)| fs::symlink_metadata(path).is_ok());
        if is_nobodys || name.starts_with(BEGUN) {
            let _ = fs::remove_file(entry.path());
        }
    }
}

/// Takes the names back that a command gave that was killed before it had given all of them.
fn take_names_back(lines: &[Line], own: impl Fn(&PathBuf) -> bool) {
    let marked = || lines.iter().filter(|line| line.made.is_some());
    let temporary = marked().filter_map(|line| decoded(&line.temporary)).filter(own);
    if temporary.map(|path| made(&path)).all(|known| known.is_none()) {
        return;
    }
    for line in marked() {
        if let Some(target) = decoded(&line.target).filter(|target| made(target) == line.made) {
            let _ = fs::remove_file(target);
        }
    }
}

/// A note whose command is gone, with its lock, and what it says.
fn orphan(path: &Path) -> Option<(File, Vec<Line>)> {
    let file = OpenOptions::new().read(true).append(true).open(path).ok()?;
    file.try_lock().ok()?;
    let bytes = files::read_whole(path, LIMIT).ok()?;
    let lines = bytes.split(|byte| *byte == b'\n').filter_map(|line| serde_json::from_slice(line).ok());
    Some((file, lines.collect()))
}

/// Ends the intentions of this member on this machine whose command is gone, each in a row of its own: with what it
/// was to put in where all its files have their names and are the ones that were meant. Whatever cannot be written is
/// left for the next command.
pub(crate) fn settle(ctx: &Ctx<'_>, cabinet: &mut Cabinet<'_>) {
    let Some(folder) = ctx.machine.outgoing() else { return };
    let Some(member) = cabinet.unlocked_by().map(|member| member.id) else { return };
    let machine = ninekeys_cabinet::Memory::machine(ctx.machine);
    let open = cabinet.intentions();
    for (id, intention) in open.iter().filter(|(_, i)| i.machine == machine && i.member == member) {
        let path = folder.join(id);
        let found = orphan(&path);
        if found.is_none() && path.exists() {
            continue;
        }
        let (state, done) = match &found {
            // a machine that lost its notes cannot tell
            None => ("what became of it is not known", false),
            Some((_, lines)) => became(ctx, intention, lines),
        };
        let what = format!("{}: cut off, {state}", intention.what);
        if cabinet.change(&what, &ctx.env, |change| change.end_intention(id, done).map(|_| ())).is_err() {
            return;
        }
        let _ = fs::remove_file(&path);
    }
    // notes whose intention was never written, or has been ended
    for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
        let id = entry.file_name().to_string_lossy().into_owned();
        let known = open.iter().any(|(open, _)| *open == id);
        let identity = cabinet.identity();
        let here = |lines: &[Line]| lines.iter().all(|line| line.cabinet == Some(identity));
        if let Some((_lock, lines)) = orphan(&entry.path()).filter(|(_, lines)| !known && here(lines)) {
            let left = lines.iter().filter_map(|line| decoded(&line.temporary)).any(|path| path.exists());
            if !left {
                let _ = fs::remove_file(entry.path());
            }
        }
    }
}

/// What became of an intention's files.
fn became(ctx: &Ctx<'_>, intention: &Intention, lines: &[Line]) -> (&'static str, bool) {
    let is_there = |file: &&IntendedFile| {
        let target = lines.iter().filter_map(|line| decoded(&line.target));
        let mut own =
            target.filter(|path| path.file_name().is_some_and(|name| *name.to_string_lossy() == file.name));
        let Some(wanted) = &file.sha256 else { return false };
        own.any(|path| files::sha256(&path, &ctx.env).is_ok_and(|found| found == *wanted))
    };
    if intention.purpose == LEND {
        return ("and the loan with it", false);
    }
    // a password has no digest to be known by: it gets its name before what it opens
    let known = intention.files.iter().filter(|file| file.sha256.is_some());
    match known.clone().filter(is_there).count() {
        0 => ("nothing of it was written", false),
        all if all == known.count() => ("all of it had been written", true),
        _ => ("a part of it had been written", false),
    }
}
