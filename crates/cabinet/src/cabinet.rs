//! The cabinet: opened for its facts, unlocked for its secrets, changed in whole steps.

use std::collections::BTreeMap;
use std::path::Path;

use ninekeys_core::env::Env;
use ninekeys_core::model::{Inventory, Item, LastBackup};
use ninekeys_formats::secret::SecretBytes;

use crate::change::Change;
use crate::history::{self, HistoryBody, HistoryRow};
use crate::items::{load_inventory, to_stored};
use crate::member::{Credential, Member, MemberKind, NewMember, unwrap};
use crate::seal::CabinetKey;
use crate::sqlite::SqliteStore;
use crate::store::{BackupRow, Store};
use crate::{CabinetError, MemberRow};

const HISTORY_MAC: &str = "history-mac";
const MADE: &str = "made";

/// An open cabinet.
pub struct Cabinet {
    store: Box<dyn Store>,
    unlocked: Option<Unlocked>,
}

struct Unlocked {
    key: CabinetKey,
    by: String,
}

/// What unlocking proved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proof {
    /// Items whose seals and facts are whole.
    pub items: usize,
    /// Rows of unbroken history.
    pub history: usize,
}

/// What can be said of a cabinet without unlocking it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Status {
    /// When it was made, RFC 3339.
    pub made: String,
    /// Its members.
    pub members: Vec<Member>,
    /// Rows of history.
    pub history: usize,
    /// The newest history row.
    pub newest: Option<HistoryRow>,
    /// Backups, oldest first.
    pub backups: Vec<BackupRow>,
}

impl Cabinet {
    /// Makes a cabinet in a new file, for these members; at least one.
    ///
    /// # Errors
    /// [`CabinetError::Exists`] when there is a file, [`CabinetError::LastMember`] without members,
    /// [`CabinetError::Io`], [`CabinetError::Crypto`].
    pub fn create(path: &Path, members: &[NewMember], env: &Env<'_>) -> Result<Cabinet, CabinetError> {
        if members.is_empty() {
            return Err(CabinetError::LastMember("credential"));
        }
        let mut store: Box<dyn Store> = Box::new(SqliteStore::create(path)?);
        store.begin()?;
        store.set_value(MADE, env.now.to_string().as_bytes())?;
        store.commit()?;
        let unlocked = Unlocked { key: CabinetKey::make(env)?, by: "maker".into() };
        let mut cabinet = Cabinet { store, unlocked: Some(unlocked) };
        cabinet.change("cabinet made", env, |change| {
            members.iter().try_for_each(|member| change.put_member(member))
        })?;
        Ok(cabinet)
    }

    /// Opens the cabinet in a file: facts can be read, secrets not.
    ///
    /// # Errors
    /// [`CabinetError::Missing`], [`CabinetError::NotACabinet`], [`CabinetError::TooNew`],
    /// [`CabinetError::Io`].
    pub fn open(path: &Path) -> Result<Cabinet, CabinetError> {
        Ok(Cabinet { store: Box::new(SqliteStore::open(path)?), unlocked: None })
    }

    /// Whether secrets can be read.
    pub fn is_unlocked(&self) -> bool {
        self.unlocked.is_some()
    }

    /// Which member unlocked it.
    pub fn unlocked_by(&self) -> Option<&str> {
        self.unlocked.as_ref().map(|unlocked| unlocked.by.as_str())
    }

    /// Unlocks with a credential, and proves everything before anything is used: every seal with its facts,
    /// the whole history, and that no item is missing or older than the history says.
    ///
    /// # Errors
    /// [`CabinetError::WrongCredential`], [`CabinetError::NotAnIdentity`], [`CabinetError::Tampered`].
    pub fn unlock(&mut self, credential: &Credential) -> Result<Proof, CabinetError> {
        let (key, by) = unwrap(&self.store.members()?, credential)?;
        // one moment's view: another process may be changing the cabinet
        self.store.begin_reading()?;
        let proof = prove(self.store.as_ref(), &key);
        self.store.roll_back();
        self.unlocked = Some(Unlocked { key, by });
        proof.inspect_err(|_| self.unlocked = None)
    }

    /// Everything in the cabinet, without secrets.
    ///
    /// # Errors
    /// [`CabinetError::Io`], [`CabinetError::Tampered`] when facts cannot be read.
    pub fn inventory(&self) -> Result<Inventory, CabinetError> {
        load_inventory(self.store.as_ref())
    }

    /// Members, history and backups.
    ///
    /// # Errors
    /// [`CabinetError::Io`], [`CabinetError::Tampered`] when the history is broken.
    pub fn status(&self) -> Result<Status, CabinetError> {
        let made = self.store.value(MADE)?.unwrap_or_default();
        let (mut rows, _) = history::read(self.store.as_ref())?;
        Ok(Status {
            made: String::from_utf8_lossy(&made).into_owned(),
            members: self.store.members()?.into_iter().map(member).collect(),
            history: rows.len(),
            newest: rows.pop(),
            backups: self.store.backups()?,
        })
    }

    /// The whole history, oldest first.
    ///
    /// # Errors
    /// [`CabinetError::Io`], [`CabinetError::Tampered`] when it is broken.
    pub fn history(&self) -> Result<Vec<HistoryRow>, CabinetError> {
        Ok(history::read(self.store.as_ref())?.0)
    }

    /// The backup that has most of the history.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    pub fn last_backup(&self) -> Result<Option<LastBackup>, CabinetError> {
        let backups = self.store.backups()?;
        let known = backups.iter().filter_map(|b| Some(LastBackup { at: b.at.parse().ok()?, seq: b.seq }));
        Ok(known.max_by_key(|backup| backup.seq))
    }

    /// The secret of an item.
    ///
    /// # Errors
    /// [`CabinetError::Locked`], [`CabinetError::Tampered`].
    pub fn secret(&self, item: &Item) -> Result<SecretBytes, CabinetError> {
        let unlocked = self.unlocked.as_ref().ok_or(CabinetError::Locked)?;
        let stored = to_stored(item)?;
        let gone = || CabinetError::Tampered(format!("{} is gone", item.name));
        let sealed = self.store.sealed(&stored.id)?.ok_or_else(gone)?;
        unlocked.key.open(&stored, &sealed)
    }

    /// One change: everything that `work` does, and a row of history, or nothing.
    ///
    /// # Errors
    /// [`CabinetError::Locked`], and whatever `work` returns.
    pub fn change<R, E: From<CabinetError>>(
        &mut self,
        what: &str,
        env: &Env<'_>,
        work: impl FnOnce(&mut Change<'_>) -> Result<R, E>,
    ) -> Result<R, E> {
        let unlocked = self.unlocked.as_ref().ok_or(CabinetError::Locked)?;
        self.store.begin()?;
        let done = run_change(self.store.as_mut(), unlocked, what, env, work);
        match done {
            Ok(result) => {
                self.store.commit()?;
                Ok(result)
            }
            Err(error) => {
                self.store.roll_back();
                Err(error)
            }
        }
    }

    /// Writes a consistent copy to a new file, and proves it: it is opened, and everything in it unsealed.
    ///
    /// # Errors
    /// [`CabinetError::Locked`], [`CabinetError::Io`], [`CabinetError::Tampered`].
    pub fn copy_proved(&self, path: &Path) -> Result<Proof, CabinetError> {
        let unlocked = self.unlocked.as_ref().ok_or(CabinetError::Locked)?;
        self.store.copy_to(path)?;
        let copy = SqliteStore::open_copy(path)?;
        prove(&copy, &unlocked.key)
    }

    /// Notes in the cabinet that backups were made, which have the history up to the row `seq`.
    ///
    /// # Errors
    /// [`CabinetError::Locked`], [`CabinetError::Io`].
    pub fn note_backups(&mut self, places: &[String], seq: u64, env: &Env<'_>) -> Result<(), CabinetError> {
        let rows: Vec<BackupRow> = places
            .iter()
            .map(|place| BackupRow { at: env.now.to_string(), place: place.clone(), seq })
            .collect();
        let what = format!("backup to {}", places.join(", "));
        self.change(&what, env, |change| rows.iter().try_for_each(|row| change.store.add_backup(row)))
    }

    /// Gives a passphrase member another passphrase.
    ///
    /// # Errors
    /// [`CabinetError::Locked`], [`CabinetError::Io`], [`CabinetError::Crypto`].
    pub fn put_member(&mut self, member: &NewMember, what: &str, env: &Env<'_>) -> Result<(), CabinetError> {
        self.change(what, env, |change| change.put_member(member))
    }
}

fn run_change<R, E: From<CabinetError>>(
    store: &mut dyn Store,
    unlocked: &Unlocked,
    what: &str,
    env: &Env<'_>,
    work: impl FnOnce(&mut Change<'_>) -> Result<R, E>,
) -> Result<R, E> {
    let seq = store.newest_history()?.map_or(1, |(seq, _)| seq + 1);
    let mut change = Change { store, key: &unlocked.key, env, seq, touched: Vec::new() };
    let result = work(&mut change)?;
    let items = change.touched;
    let body = HistoryBody { at: env.now.to_string(), by: unlocked.by.clone(), what: what.into(), items };
    let (seq, hash) = history::append(store, &body)?;
    store.set_value(HISTORY_MAC, &unlocked.key.authenticate(seq, &hash))?;
    Ok(result)
}

/// Proves a whole cabinet against its key.
fn prove(store: &dyn Store, key: &CabinetKey) -> Result<Proof, CabinetError> {
    let tampered = |what: String| Err(CabinetError::Tampered(what));
    let (rows, newest) = history::read(store)?;
    let mac = store.value(HISTORY_MAC)?.unwrap_or_default();
    if mac != key.authenticate(rows.len() as u64, &newest) {
        return tampered("the history does not end where this tool left it".into());
    }
    let mut expected = BTreeMap::new();
    let all = rows.iter().flat_map(|row| row.body.items.iter().map(|item| (row.seq, item)));
    for (seq, touched) in all {
        expected.insert(touched.id.as_str(), (touched.revision, seq, touched.name.as_str()));
    }
    let items = store.items()?;
    for item in &items {
        match expected.remove(item.id.as_str()) {
            Some((revision, seq, _)) if (revision, seq) == (item.revision, item.seq) => {}
            Some(_) => return tampered(format!("{} is not the revision that the history says", item.name)),
            None => return tampered(format!("{} is not in the history", item.name)),
        }
        let sealed = store.sealed(&item.id)?.unwrap_or_default();
        key.open(item, &sealed)?;
    }
    if let Some((_, _, name)) = expected.into_values().next() {
        return tampered(format!("{name} is in the history and gone from the items"));
    }
    Ok(Proof { items: items.len(), history: rows.len() })
}

fn member(row: MemberRow) -> Member {
    let kind = MemberKind::from_word(&row.kind);
    Member { label: row.label, kind, recipient: row.recipient, added: row.added }
}

#[cfg(test)]
mod tests;
