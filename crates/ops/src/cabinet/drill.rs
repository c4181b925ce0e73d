//! `cabinet backup --drill`: a copy is restored into a scratch place, and every key in it signs a probe.

use std::fs::{File, OpenOptions};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, Forgetful, Trust};
use ninekeys_core::digest::from_hex;
use ninekeys_core::keys::{KeyProof, prove};
use ninekeys_core::model::{Facts, Inventory, Item, KeyFacts};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError};
use crate::outgoing::Workshop;
use crate::project::ProjectError;

/// What a copy is worth.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DrillReport {
    /// The copy.
    pub copy: String,
    /// The newest row of history in it.
    pub row: u64,
    /// When that was written.
    pub written: Timestamp,
    /// How many records it holds, each of them opened.
    pub items: usize,
    /// How many keys signed a probe that holds under their public keys.
    pub signed: usize,
    /// Keys of kinds that nothing here computes with: they are whole as far as can be told.
    pub untold: Vec<String>,
    /// Keys that did not sign.
    pub broken: Vec<String>,
    /// Keys of the cabinet that are not in it.
    pub missing: Vec<String>,
    /// The time of the drill.
    pub at: Timestamp,
}

impl DrillReport {
    /// Whether everything that the cabinet holds could be brought back.
    pub fn is_good(&self) -> bool {
        self.broken.is_empty() && self.missing.is_empty()
    }
}

/// Why there was no drill.
#[derive(Debug, Error)]
pub enum DrillError {
    /// None was named, and none is where it was written.
    #[error("no copy of this cabinet is where one was written")]
    NoCopy,
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The copy cannot be opened, or not all that is in it.
    #[error("{}: {cause}", path.display())]
    Copy {
        /// The copy.
        path: PathBuf,
        /// What was wrong.
        #[source]
        cause: CabinetError,
    },
}

/// Restores a copy into a scratch place that goes again, and has every key in it sign. The cabinet is not touched.
///
/// # Errors
/// [`DrillError`].
pub fn drill(ctx: &Ctx<'_>, named: Option<&Path>) -> Result<DrillReport, DrillError> {
    let cabinet = ctx.open()?;
    let place = match named {
        Some(named) => named.to_owned(),
        None => newest(ctx, &cabinet)?,
    };
    let source = ctx.path(&place);
    let workshop = Workshop::begin(ctx, &ctx.cabinet_path()?)?;
    let scratch = workshop.file();
    files::empty_private(&scratch)?;
    copy(&source, &scratch)?;
    let failed = |cause| DrillError::Copy { path: place.clone(), cause };
    let trust = Trust { pin: ctx.pin()?, memory: &Forgetful };
    let mut restored = Cabinet::open(&scratch, trust).map_err(failed)?;
    ctx.unlock_with(&mut restored, |copy, credential| copy.unlock_to_look(credential))?;
    let proof = restored.open_every_seal().map_err(failed)?;
    let inventory = restored.inventory().map_err(failed)?;
    let mut report = DrillReport {
        copy: place.display().to_string(),
        row: proof.head.seq,
        written: restored.status().map_err(failed)?.newest.at,
        items: proof.items,
        signed: 0,
        untold: Vec::new(),
        broken: Vec::new(),
        missing: missing(&*cabinet.inventory()?, &inventory),
        at: ctx.env.now,
    };
    for (item, facts) in keys(&inventory) {
        let public = from_hex(&facts.public_key).unwrap_or_default();
        let proved = restored.secret(item).map(|secret| secret.lend(|der| prove(der, &public)));
        match proved {
            Ok(KeyProof::Holds) => report.signed += 1,
            Ok(KeyProof::Untold) => report.untold.push(item.name.clone()),
            Ok(KeyProof::Damaged) | Err(_) => report.broken.push(item.name.clone()),
        }
    }
    Ok(report)
}

/// The newest copy that is where it was written.
fn newest(ctx: &Ctx<'_>, cabinet: &Cabinet<'_>) -> Result<PathBuf, DrillError> {
    let backups = cabinet.status()?.backups;
    let places = backups.into_iter().rev().map(|backup| PathBuf::from(backup.place));
    places.into_iter().find(|place| ctx.path(place).is_file()).ok_or(DrillError::NoCopy)
}

fn copy(from: &Path, to: &Path) -> Result<(), DrillError> {
    let mut source = File::open(from).map_err(|cause| FileError::new("read", from, cause))?;
    let written = OpenOptions::new().write(true).truncate(true).open(to);
    let mut target = written.map_err(|cause| FileError::new("written", to, cause))?;
    std::io::copy(&mut source, &mut target).map_err(|cause| FileError::new("written", to, cause))?;
    Ok(())
}

/// The private keys, by name.
fn keys(inventory: &Inventory) -> Vec<(&Item, &KeyFacts)> {
    let mut all: Vec<_> = inventory
        .iter()
        .filter_map(|item| match &item.facts {
            Facts::Key(facts) => Some((item, facts)),
            _ => None,
        })
        .collect();
    all.sort_by(|(a, _), (b, _)| a.name.cmp(&b.name));
    all
}

/// The keys of the cabinet that a copy does not have: by what they are, not by what they are called.
fn missing(own: &Inventory, copy: &Inventory) -> Vec<String> {
    let there: Vec<&str> = keys(copy).into_iter().map(|(_, facts)| facts.fingerprint.as_str()).collect();
    let missing = keys(own).into_iter().filter(|(_, facts)| !there.contains(&facts.fingerprint.as_str()));
    missing.map(|(item, _)| item.name.clone()).collect()
}
