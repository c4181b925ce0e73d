//! `cabinet backup`: copies that were read back and opened before they count.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{Backup, Cabinet, CabinetError, Digest};
use ninekeys_core::model::{Inventory, KeystoreFacts, LastBackup, Role, State};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError, NewFolders};
use crate::outgoing::Workshop;
use crate::outputs::{self, OutputError};

/// The copies that were made.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BackupReport {
    /// The files.
    pub copies: Vec<String>,
    /// Items in each.
    pub items: usize,
    /// Whether a copy is on the same disk as the cabinet.
    pub same_disk: bool,
    /// Where copies of every key are that cannot be replaced.
    pub kept: Vec<Kept>,
    /// The newest copy that is kept elsewhere than the cabinet.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub off_site: Option<KeptCopy>,
    /// The time of the answer.
    pub at: Timestamp,
}

/// A keystore with a signing key, and the copies that have its keys.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Kept {
    /// Its name.
    pub name: String,
    /// The copies, newest first.
    pub copies: Vec<KeptCopy>,
}

/// A copy, as it was noted when it was made.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct KeptCopy {
    /// When it was made.
    pub at: Timestamp,
    /// Where it was written.
    pub place: String,
    /// Whether it is kept elsewhere, as they said.
    pub off_site: bool,
}

impl KeptCopy {
    fn of(backup: &Backup) -> Self {
        KeptCopy { at: backup.at, place: backup.place.clone(), off_site: backup.off_site }
    }
}

/// Why no copy counts.
#[derive(Debug, Error)]
pub enum BackupError {
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet, or the copy when it was read back.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// A folder cannot be written to.
    #[error(transparent)]
    File(#[from] FileError),
    /// A copy would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// Some copies were made, and the next one was not.
    #[error("{cause}")]
    Partly {
        /// The copies that were made.
        done: Vec<String>,
        /// Why the next one was not.
        #[source]
        cause: Box<BackupError>,
    },
    /// A copy is there, and the cabinet could not note it.
    #[error("{place} is whole, but the cabinet could not note it: {cause}")]
    Unnoted {
        /// The copy.
        place: String,
        /// Why not.
        #[source]
        cause: CabinetError,
    },
    /// Not a folder.
    #[error("{0} is not a folder")]
    NotAFolder(String),
}

/// Copies the cabinet into every folder, which is or goes elsewhere than the cabinet if `off_site` says so. Each copy is written beside its name, opened, proved, named, and noted in the
/// cabinet before the next one is begun.
///
/// # Errors
/// [`BackupError`]; copies that were finished before the error stay, and are noted.
pub fn backup(ctx: &Ctx<'_>, folders: &[PathBuf], off_site: bool) -> Result<BackupReport, BackupError> {
    let mut cabinet = ctx.open()?;
    let source = ctx.cabinet_path().map_err(OpenError::from)?;
    let stem =
        source.file_stem().map_or_else(|| "cabinet".into(), |stem| stem.to_string_lossy().into_owned());
    let name = format!("{stem}-{}.cabinet", ctx.env.now.strftime("%Y%m%dT%H%M%SZ"));
    for folder in folders {
        let folder = ctx.path(folder);
        if folder.exists() && !folder.is_dir() {
            return Err(BackupError::NotAFolder(folder.display().to_string()));
        }
    }
    let targets: Vec<PathBuf> = folders.iter().map(|folder| ctx.path(folder).join(&name)).collect();
    let all: Vec<&Path> = targets.iter().map(PathBuf::as_path).collect();
    outputs::refuse_ours(ctx, &all, &[])?;
    outputs::refuse_taken(ctx, &all, false)?;
    let off_site = off_site || goes_elsewhere(ctx, &cabinet, folders)?;
    ctx.unlock(&mut cabinet)?;
    let mut copies = Vec::new();
    let mut items = 0;
    for (folder, target) in folders.iter().zip(&targets) {
        let place = folder.join(&name).display().to_string();
        match copy(ctx, &mut cabinet, target, (&place, off_site)) {
            Ok(found) => items = found,
            Err(error) if copies.is_empty() => return Err(error),
            Err(error) => return Err(BackupError::Partly { done: copies, cause: Box::new(error) }),
        }
        copies.push(place);
    }
    let same_disk = folders.iter().any(|folder| on_same_disk(&source, &ctx.path(folder)));
    let noted = cabinet.status()?.backups;
    let kept = kept(cabinet.inventory()?.as_ref(), &noted);
    let off_site = noted.iter().rev().find(|backup| backup.off_site).map(KeptCopy::of);
    Ok(BackupReport { copies, items, same_disk, kept, off_site, at: ctx.env.now })
}

/// Asks a person whether the copies go elsewhere, where that may be (they are on other disks), and something is at stake. Somebody
/// who says it beforehand is not asked, and a script never is.
fn goes_elsewhere(ctx: &Ctx<'_>, cabinet: &Cabinet<'_>, folders: &[PathBuf]) -> Result<bool, BackupError> {
    let source = ctx.cabinet_path().map_err(OpenError::from)?;
    let near = folders.iter().any(|folder| on_same_disk(&source, existing(&ctx.path(folder))));
    if near || kept(cabinet.inventory()?.as_ref(), &[]).is_empty() {
        return Ok(false);
    }
    let named: Vec<String> = folders.iter().map(|folder| folder.display().to_string()).collect();
    let question = format!("Is {} kept elsewhere than the cabinet, or does it go there", named.join(", "));
    Ok(ctx.ask.sure(&question)?.unwrap_or(false))
}

/// The folder, or the nearest one above it that is there.
fn existing(folder: &Path) -> &Path {
    folder.ancestors().find(|above| above.exists()).unwrap_or(folder)
}

/// The copies of every key that cannot be replaced; `noted` are oldest first.
fn kept(inventory: &Inventory, noted: &[Backup]) -> Vec<Kept> {
    let signs = |keystore: &KeystoreFacts| {
        keystore.entries.iter().any(|entry| entry.roles().contains(&Role::Signing))
    };
    let mut kept: Vec<Kept> = inventory
        .keystores()
        .into_iter()
        .filter(|(item, keystore)| item.state == State::Active && signs(keystore))
        .map(|(item, keystore)| {
            let has = |backup: &&Backup| {
                LastBackup { at: backup.at, seq: backup.seq }.has_keys(keystore, inventory)
            };
            let copies = noted.iter().rev().filter(has).map(KeptCopy::of);
            Kept { name: item.name.to_string(), copies: copies.collect() }
        })
        .collect();
    kept.sort_by(|one, other| one.name.cmp(&other.name));
    kept
}

/// One copy, named and noted. Tells how many items are in it.
fn copy(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    target: &Path,
    (place, off_site): (&str, bool),
) -> Result<usize, BackupError> {
    let folders = NewFolders::make(files::folder_of(target))?;
    let workshop = Workshop::begin(ctx, target)?;
    let unfinished = workshop.file();
    // made empty and private first, so that no moment shows it to others
    files::empty_private(&unfinished)?;
    let proof = cabinet.copy_proved(&unfinished)?;
    let sha256 = files::sha256(&unfinished, &ctx.env)?;
    files::move_into_place(&unfinished, target)?;
    folders.keep();
    let file = Digest::from_text(&sha256).unwrap_or(proof.head.hash);
    let noted = cabinet.change(&format!("cabinet backup to {place}"), &ctx.env, |change| {
        change.put_backup(&Backup {
            at: ctx.env.now,
            place: place.into(),
            seq: proof.head.seq,
            head: proof.head.hash,
            file,
            by: change.member().label.clone(),
            off_site,
        })
    });
    // it stays: a copy that nothing counts on does no harm, and one that is counted on has to be there
    noted.map_err(|cause| BackupError::Unnoted { place: place.into(), cause })?;
    Ok(proof.items)
}

#[cfg(unix)]
fn on_same_disk(one: &Path, other: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let device = |path: &Path| std::fs::metadata(path).map(|found| found.dev()).ok();
    device(one).is_some() && device(one) == device(other)
}

#[cfg(not(unix))]
fn on_same_disk(_one: &Path, _other: &Path) -> bool {
    false
}
