//! Looking at the items without unlocking: proved as whenever a cabinet is opened, or known again.
//!
//! A machine that proved a cabinet remembers its newest row and the digest of all records as they were listed then. Where
//! both are found again, the items are those that were proved, whatever else stands in the file: its rows, which cost half as
//! much again as the records, are left to those who open it.

use std::path::Path;
use std::sync::Arc;

use ninekeys_core::model::{Inventory, LastBackup};

use crate::CabinetError;
use crate::cabinet::{Cabinet, last_of};
use crate::digest::Digest;
use crate::listing::{Listing, Wanted};
use crate::row::{Form, RecordKind, body_digest, hash};
use crate::sqlite::SqliteStore;
use crate::store::Store;
use crate::trust::{Known, Pin, Standing, Trust};

/// What a look at a cabinet shows.
#[derive(Debug, Clone)]
pub struct Look {
    /// The hash of its first row: what is pinned.
    pub identity: Digest,
    /// Everything in it, without secrets.
    pub inventory: Arc<Inventory>,
    /// The backup that has most of the history.
    pub last_backup: Option<LastBackup>,
    /// How it stands to what is known of it.
    pub standing: Standing,
}

impl Look {
    /// Looks at the cabinet in a file.
    ///
    /// # Errors
    /// As [`Cabinet::open`] and [`Cabinet::inventory`].
    pub fn at(path: &Path, trust: Trust<'_>) -> Result<Self, CabinetError> {
        Look::with(path, trust, false)
    }

    /// The same for a list: the items may lack what no list tells, which is most of their room.
    ///
    /// # Errors
    /// As [`Look::at`].
    pub fn for_a_list(path: &Path, trust: Trust<'_>) -> Result<Self, CabinetError> {
        Look::with(path, trust, true)
    }

    fn with(path: &Path, trust: Trust<'_>, abridged: bool) -> Result<Self, CabinetError> {
        // what cannot be read so is opened, which says why
        if let Ok(Some(known)) = known_again(path, &trust, abridged) {
            return Ok(known);
        }
        let cabinet = Cabinet::open(path, trust)?;
        Ok(Look {
            identity: cabinet.identity(),
            inventory: cabinet.inventory()?,
            last_backup: cabinet.last_backup(),
            standing: cabinet.standing(),
        })
    }
}

fn known_again(path: &Path, trust: &Trust<'_>, abridged: bool) -> Result<Option<Look>, CabinetError> {
    let mut store = SqliteStore::open(path)?;
    store.begin_reading()?;
    let found = look_again(&store, path, trust, abridged);
    store.roll_back();
    found
}

fn look_again(
    store: &dyn Store,
    path: &Path,
    trust: &Trust<'_>,
    abridged: bool,
) -> Result<Option<Look>, CabinetError> {
    let Some(identity) = identity(store)? else { return Ok(None) };
    let Some(Known { head, listing: Some(listing), pinned, .. }) = trust.memory.known(&identity) else {
        return Ok(None);
    };
    // at a place where it was never met it is met first
    let is_meant = trust.memory.at(path) == Some(identity)
        && trust.pin.is_none_or(|pin| pinned.is_some_and(|head| pin == Pin { identity, head }));
    if !is_meant || store.newest()? != Some(head.seq) {
        return Ok(None);
    }
    let wanted = Wanted { facts: false, items: true, abridged, listing: true };
    let mut found = Listing::read(store, wanted)?;
    if found.digest() != Some(listing) {
        return Ok(None);
    }
    let backups = found.read_kind(RecordKind::Backup).map(|(_, backup)| backup).collect();
    let inventory = Arc::new(Inventory::of_shared(found.take_items()?));
    Ok(Some(Look { identity, inventory, last_backup: last_of(backups), standing: Standing::Current }))
}

/// The hash of the first row.
fn identity(store: &dyn Store) -> Result<Option<Digest>, CabinetError> {
    let first = store.row(1)?;
    Ok(first.and_then(|row| {
        let form = Form::from_word(&row.form)?;
        Some(hash(None, 1, form, &body_digest(row.body.as_bytes())))
    }))
}
