//! `sweep`: loose and leaked material on disk, found by what it is and not by what it is called; nothing is unlocked, and nothing
//! that is found is said but its place.

mod aside;
mod history;
mod settings;
mod take_in;
mod walk;

use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, UNLOCK_FILE};
use ninekeys_core::findings::Level;
use ninekeys_core::model::LastBackup;
use ninekeys_formats::pem;
use ninekeys_formats::secret::{Secret, SecretBytes};
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::answers::KeySaid;
use crate::build::background::Background;
use crate::build::check::CheckError;
use crate::cabinet::pieces::make::HEAD as PIECE;
use crate::ctx::{Ctx, OpenError};
use crate::files::FileError;
use crate::inspect::{self, Content};
use crate::keystore::key_with;
use crate::outputs::OutputError;
pub use aside::{LIST, Moved};
pub(crate) use history::is_tracked;
pub use take_in::{NotTaken, TakenIn};
pub(crate) use walk::is_open;

/// How much of a file says whether it is looked into.
const HEAD: usize = 4 << 10;
/// The most of a file that is looked into.
const MOST: u64 = 1 << 20;

/// How many files are read at a time.
const CHUNK: usize = 4_096;

/// What is looked through.
#[derive(Debug)]
pub struct Request {
    /// Folders and files.
    pub places: Vec<PathBuf>,
    /// Whether what was ever put into repositories on the way is looked through too.
    pub history: bool,
    /// Whether what the cabinet does not have is taken into it.
    pub take_in: bool,
    /// The folder that copies of what the cabinet holds, and dead profiles, are moved into.
    pub aside: Option<PathBuf>,
}

/// What was brought back.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BroughtBackReport {
    /// What is where it was.
    pub back: Vec<Moved>,
    /// What stayed, since something else is in its place.
    pub left: Vec<Moved>,
}

/// Brings back what was set aside.
///
/// # Errors
/// [`SweepError`].
pub fn bring_back(ctx: &Ctx<'_>, list: &Path) -> Result<BroughtBackReport, SweepError> {
    let (back, left) = aside::bring_back(ctx, list)?;
    Ok(BroughtBackReport { back, left })
}

/// What something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum What {
    /// A private key that nothing guards.
    PrivateKey,
    /// A private key under a password.
    EncryptedKey,
    /// A keystore.
    Keystore,
    /// A service account's key.
    ServiceKey,
    /// A password in settings.
    Password,
    /// What unlocks a cabinet of ours.
    UnlockFile,
    /// A recovery piece of a cabinet of ours.
    RecoveryPiece,
    /// A provisioning profile.
    Profile,
    /// A certificate.
    Certificate,
}

impl What {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            What::PrivateKey => "private key",
            What::EncryptedKey => "encrypted private key",
            What::Keystore => "keystore",
            What::ServiceKey => "service key",
            What::Password => "password",
            What::UnlockFile => "unlock file",
            What::RecoveryPiece => "recovery piece",
            What::Profile => "provisioning profile",
            What::Certificate => "certificate",
        }
    }

    /// Whether it is secret at all.
    fn is_secret(self) -> bool {
        !matches!(self, What::Profile | What::Certificate)
    }

    /// One at that place, of which nothing else is known yet.
    fn at(self, shown: &str) -> Found {
        let level = match self {
            What::PrivateKey | What::ServiceKey | What::Password => Level::Error,
            What::EncryptedKey | What::Keystore | What::UnlockFile | What::RecoveryPiece => Level::Warning,
            What::Profile | What::Certificate => Level::Note,
        };
        Found {
            path: shown.into(),
            line: None,
            commit: None,
            what: self,
            subject: None,
            key: None,
            item: None,
            backed_up: None,
            held_whole: false,
            not_after: None,
            open_to_others: false,
            level,
        }
    }
}

/// Something that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Found {
    /// Where, as the user would write its path.
    pub path: String,
    /// The line, of a password in settings.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
    /// The commit that put it into a repository, where it was found there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub commit: Option<String>,
    /// What it is.
    pub what: What,
    /// What tells it from others: a subject, a title, a setting's name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// Its key, where that can be seen.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<KeySaid>,
    /// The item of the cabinet that holds the same.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// Of a private key that the cabinet holds: whether a backup has it too.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub backed_up: Option<bool>,
    /// Whether it was opened, and every key in it is in the cabinet.
    #[serde(skip)]
    held_whole: bool,
    /// Until when it is good.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
    /// Whether others on this machine can read it.
    pub open_to_others: bool,
    /// How much it matters that it lies there.
    pub level: Level,
}

/// What was found.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SweepReport {
    /// The finds, by path.
    pub found: Vec<Found>,
    /// The same key under several names: the paths.
    pub alike: Vec<Vec<String>>,
    /// What was taken into the cabinet.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub taken_in: Vec<TakenIn>,
    /// What could not be.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub not_taken: Vec<NotTaken>,
    /// How many files were looked at.
    pub files: usize,
    /// How many could not be read.
    pub unreadable: usize,
    /// What was moved out of the way.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub moved: Vec<Moved>,
    /// The list that brings it back.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub list: Option<String>,
    /// How many repositories were looked through.
    pub repositories: usize,
    /// The time of the look.
    pub at: Timestamp,
}

impl SweepReport {
    /// Whether something secret lies where it should not.
    pub fn leaks(&self) -> bool {
        self.found.iter().any(|one| one.level == Level::Error)
    }
}

/// Why nothing was looked through.
#[derive(Debug, Error)]
pub enum SweepError {
    /// A place.
    #[error(transparent)]
    File(#[from] FileError),
    /// The list of what is moved would fall on something of ours.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// Project file or cabinet.
    #[error(transparent)]
    Background(#[from] CheckError),
    /// The cabinet that it is taken into.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// It could not be written to; what was taken in before stays in.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The user stopped.
    #[error("it was stopped")]
    Stopped,
    /// A repository that its own program cannot read.
    #[error("the history of {} cannot be read: {because}", path.display())]
    Repository {
        /// Its folder.
        path: PathBuf,
        /// Why.
        because: String,
    },
    /// It ended in the middle.
    #[error("{cause}")]
    Partly {
        /// Why.
        #[source]
        cause: Box<SweepError>,
        /// What is done and stays so.
        done: String,
    },
}

impl SweepError {
    /// The error with what was done before it.
    fn behind(self, taken_in: &[TakenIn], moved: &[Moved]) -> Self {
        let imported = taken_in.iter().filter(|one| !one.known).map(|one| one.items.len()).sum();
        self.after(&[(imported, "imported"), (moved.len(), "set aside")])
    }

    /// The error with how many of what were done before it.
    fn after(self, done: &[(usize, &str)]) -> Self {
        let done = done.iter().filter(|(many, _)| *many > 0).map(|(many, what)| format!("{many} {what}"));
        match done.collect::<Vec<_>>() {
            done if done.is_empty() => self,
            done => SweepError::Partly { cause: Box::new(self), done: done.join(", ") },
        }
    }

    /// What is done and stays so.
    pub fn done(&self) -> Option<&str> {
        match self {
            SweepError::Partly { done, .. } => Some(done),
            _ => None,
        }
    }
}

/// Looks through folders.
///
/// # Errors
/// [`SweepError`].
pub fn sweep(ctx: &Ctx<'_>, request: &Request) -> Result<SweepReport, SweepError> {
    let background = Background::read(ctx)?;
    let walked = walk::walk(ctx, &request.places)?;
    let (mut found, mut unreadable) = (Vec::new(), walked.unreadable);
    let stop = ctx.env.stop;
    // some at a time: what looks like something is held until it is looked into
    for some in walked.files.chunks(CHUNK) {
        let read: Vec<Read> = some
            .par_iter()
            .map(|file| if stop.load(Ordering::Relaxed) { Read::Nothing } else { read(file) })
            .collect();
        if ctx.env.stopped() {
            return Err(SweepError::Stopped);
        }
        for (file, read) in some.iter().zip(read) {
            match read {
                Read::Nothing => {}
                Read::Unreadable => unreadable += 1,
                Read::Bytes(bytes) => found.extend(look(ctx, file, bytes, &background)),
            }
        }
    }
    if request.history {
        for repository in &walked.repositories {
            found.extend(history::look(ctx, repository, &background)?);
        }
    }
    found.sort_by(|a, b| (&a.path, a.line, &a.commit, a.what).cmp(&(&b.path, b.line, &b.commit, b.what)));
    let (mut taken_in, mut moved) = (Vec::new(), Vec::new());
    let not_taken = match request.take_in {
        true => take_in::take_in(ctx, &mut found, &mut taken_in)
            .map_err(|cause| cause.behind(&taken_in, &moved))?,
        false => Vec::new(),
    };
    let background = if taken_in.is_empty() { background } else { Background::read(ctx)? };
    found.iter_mut().for_each(|one| one.backed_up = backed_up(one, &background));
    if let Some(to) = &request.aside {
        let done = aside::set_aside(ctx, &found, to, &mut moved);
        done.map_err(|cause| cause.behind(&taken_in, &moved))?;
    }
    let list = request.aside.as_ref().filter(|_| !moved.is_empty()).map(|to| to.join(LIST));
    found.retain(|one| {
        !moved.iter().any(|gone| {
            one.commit.is_none() && ctx.path(Path::new(&one.path)).display().to_string() == gone.from
        })
    });
    Ok(SweepReport {
        moved,
        taken_in,
        not_taken,
        list: list.map(|list| list.display().to_string()),
        alike: alike(&found),
        found,
        files: walked.files.len(),
        unreadable,
        repositories: walked.repositories.len(),
        at: ctx.env.now,
    })
}

/// Whether a backup has the private key that was found, where the cabinet holds it.
fn backed_up(one: &Found, background: &Background) -> Option<bool> {
    let inventory = background.inventory.as_deref()?;
    let held = one.item.as_ref().filter(|_| one.what.is_secret())?;
    let last = |item| background.last_backup.is_some_and(|last: LastBackup| last.holds(item, inventory));
    let key = one.key.as_ref().and_then(|key| key_with(inventory, &key.sha256));
    match key.and_then(|id| inventory.get(&id)) {
        Some(key) => Some(last(key)),
        None => {
            let mut named = inventory.iter().filter(|item| held.split(", ").any(|name| name == item.name));
            Some(named.all(last))
        }
    }
}

/// Private keys that lie in several places.
fn alike(found: &[Found]) -> Vec<Vec<String>> {
    let mut by_key: std::collections::BTreeMap<&str, Vec<String>> = std::collections::BTreeMap::new();
    for one in found.iter().filter(|one| one.what.is_secret() && one.commit.is_none()) {
        if let Some(key) = &one.key {
            by_key.entry(&key.sha256).or_default().push(one.path.clone());
        }
    }
    by_key.into_values().filter(|paths| paths.len() > 1).collect()
}

/// What reading a file came to.
enum Read {
    /// It is nothing that matters here.
    Nothing,
    /// It cannot be read.
    Unreadable,
    /// It may be something.
    Bytes(SecretBytes),
}

/// Reads the beginning of a file, and all of one that may be something.
fn read(file: &walk::Place) -> Read {
    let Some(head) = walk::head(&file.path, HEAD) else { return Read::Unreadable };
    if file.length > MOST || !may_be_something(&head, file.length) {
        return Read::Nothing;
    }
    let bytes = if file.length <= HEAD as u64 { Some(head) } else { walk::whole(&file.path, MOST) };
    bytes.map_or(Read::Unreadable, |bytes| Read::Bytes(Secret::new(bytes)))
}

/// What is in a file.
fn look(ctx: &Ctx<'_>, file: &walk::Place, bytes: SecretBytes, background: &Background) -> Vec<Found> {
    let mut found = in_bytes(ctx, bytes.lend(Clone::clone), &file.shown, background);
    for one in &mut found {
        one.open_to_others = file.open_to_others;
        if file.open_to_others && one.what.is_secret() {
            one.level = Level::Error;
        }
    }
    found
}

/// Whether a file is worth to be read whole, by its first bytes and its length.
fn may_be_something(head: &[u8], length: u64) -> bool {
    let has = |what: &[u8]| memchr::memmem::find(head, what).is_some();
    let der = match head {
        // BER without a length, or a length that is the file's
        [0x30, 0x80, ..] => true,
        [0x30, short, ..] if *short < 0x80 => u64::from(*short) + 2 == length,
        [0x30, long, rest @ ..] => {
            let count = usize::from(long & 0x7f);
            let said = rest.iter().take(count).fold(0u64, |sum, byte| sum << 8 | u64::from(*byte));
            count <= 4 && said + 2 + count as u64 == length
        }
        _ => false,
    };
    der || head.starts_with(&[0xfe, 0xed, 0xfe, 0xed])
        || has(b"-----BEGIN ")
        || has(b"\"private_key\"")
        || of_ours(head).is_some()
        || settings::may_be(head)
}

/// A service account's file, as far as it matters here.
#[derive(Deserialize)]
struct ServiceFile {
    private_key: String,
    #[serde(default)]
    client_email: Option<String>,
}

/// What bytes are, wherever they come from.
fn in_bytes(ctx: &Ctx<'_>, bytes: Vec<u8>, shown: &str, background: &Background) -> Vec<Found> {
    if bytes.starts_with(b"{")
        && let Ok(file) = serde_json::from_slice::<ServiceFile>(&bytes)
        && pem::looks_like(file.private_key.as_bytes())
    {
        let key = told(inspect::of_bytes(ctx, file.private_key.into_bytes(), None, background), shown);
        return key
            .into_iter()
            .map(|one| Found { what: What::ServiceKey, subject: file.client_email.clone(), ..one })
            .collect();
    }
    if let Some(what) = of_ours(&bytes) {
        return vec![what.at(shown)];
    }
    let passwords = settings::passwords(&bytes);
    if !passwords.is_empty() {
        return passwords.into_iter().map(|one| password(one, shown)).collect();
    }
    told(inspect::of_bytes(ctx, bytes, None, background), shown)
}

fn password((line, name): (usize, String), shown: &str) -> Found {
    Found { line: Some(line), subject: Some(name), ..What::Password.at(shown) }
}

/// What our own secret files begin with.
const OURS: [(&[u8], What); 2] =
    [(UNLOCK_FILE.as_bytes(), What::UnlockFile), (PIECE.as_bytes(), What::RecoveryPiece)];

/// What unlocks a cabinet: no material, and a secret where others can read it.
fn of_ours(bytes: &[u8]) -> Option<What> {
    OURS.iter().find(|(head, _)| bytes.starts_with(head)).map(|(_, what)| *what)
}

/// What content means here.
fn told(content: Result<Option<Content>, inspect::InspectError>, shown: &str) -> Vec<Found> {
    let blank = |what: What, level| Found { level, ..what.at(shown) };
    match content {
        Ok(Some(Content::PrivateKey(key))) => {
            let (what, level) = match key.encrypted {
                true => (What::EncryptedKey, Level::Warning),
                false => (What::PrivateKey, Level::Error),
            };
            vec![Found { key: key.key, item: key.item, ..blank(what, level) }]
        }
        Ok(Some(Content::Keystore(store))) => {
            let certificate = store.keys.first().and_then(|key| key.certificate.as_ref());
            vec![Found {
                subject: certificate.map(|own| own.certificate.subject.clone()),
                key: certificate.map(|own| own.key.clone()),
                item: certificate.and_then(|own| own.item.clone().or_else(|| own.same_key_as.clone())),
                not_after: certificate.map(|own| own.certificate.not_after),
                ..blank(What::Keystore, Level::Warning)
            }]
        }
        Ok(Some(Content::Profile(profile))) => vec![Found {
            subject: Some(profile.title.clone()),
            item: profile.item.clone(),
            not_after: Some(profile.not_after),
            ..blank(What::Profile, Level::Note)
        }],
        Ok(Some(Content::Certificates { certificates, .. })) => certificates
            .into_iter()
            .map(|own| Found {
                subject: Some(own.certificate.subject.clone()),
                key: Some(own.key),
                item: own.item.or(own.same_key_as),
                not_after: Some(own.certificate.not_after),
                ..blank(What::Certificate, Level::Note)
            })
            .collect(),
        _ => Vec::new(),
    }
}

/// A path as the user would write it.
fn shown(ctx: &Ctx<'_>, path: &Path) -> String {
    path.strip_prefix(&ctx.folder).unwrap_or(path).display().to_string()
}
