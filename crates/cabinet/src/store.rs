//! What a database has to do for a cabinet: keep rows, in transactions, for several processes at once.

use std::path::Path;

use crate::CabinetError;

/// An item as it is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredItem {
    /// Item id.
    pub id: String,
    /// Name, unique without case.
    pub name: String,
    /// `active` or `retired`.
    pub state: String,
    /// Generation, from 1.
    pub generation: u32,
    /// What it replaces.
    pub replaces: Option<String>,
    /// Revision, from 1.
    pub revision: u32,
    /// RFC 3339, UTC.
    pub created: String,
    /// The row of history that made or last changed it.
    pub seq: u64,
    /// The facts as JSON, exactly the bytes that are bound to the sealed part.
    pub facts: String,
}

/// A history row as it is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredHistory {
    /// Its number, from 1.
    pub seq: u64,
    /// What it says, JSON.
    pub body: String,
    /// The hash of the row before; zeros for the first.
    pub previous: Vec<u8>,
    /// Its own hash.
    pub hash: Vec<u8>,
}

/// A member as it is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MemberRow {
    /// Name among the members.
    pub label: String,
    /// `passphrase` or `recipient`.
    pub kind: String,
    /// The recipient's public text.
    pub recipient: Option<String>,
    /// The cabinet key, encrypted to the member.
    pub wrapped: Vec<u8>,
    /// RFC 3339, UTC.
    pub added: String,
}

/// A backup that was made and proved.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BackupRow {
    /// RFC 3339, UTC.
    pub at: String,
    /// Where it was written.
    pub place: String,
    /// The last row of history that is in it.
    pub seq: u64,
}

/// Rows, and transactions over them. Nothing here knows what they mean.
pub trait Store {
    /// Begins a transaction that no other writer can overlap; waits for one that is there.
    ///
    /// # Errors
    /// [`CabinetError::Busy`] after 30 seconds, [`CabinetError::Io`].
    fn begin(&mut self) -> Result<(), CabinetError>;
    /// Begins a transaction that only reads: it sees one moment, and keeps nobody from writing.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn begin_reading(&mut self) -> Result<(), CabinetError>;
    /// Makes the transaction's changes lasting.
    ///
    /// # Errors
    /// [`CabinetError::Io`]; then nothing was changed.
    fn commit(&mut self) -> Result<(), CabinetError>;
    /// Forgets the transaction's changes.
    fn roll_back(&mut self);

    /// A named value.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn value(&self, name: &str) -> Result<Option<Vec<u8>>, CabinetError>;
    /// Sets a named value.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn set_value(&mut self, name: &str, value: &[u8]) -> Result<(), CabinetError>;

    /// All items.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn items(&self) -> Result<Vec<StoredItem>, CabinetError>;
    /// The sealed part of an item.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn sealed(&self, id: &str) -> Result<Option<Vec<u8>>, CabinetError>;
    /// Adds an item.
    ///
    /// # Errors
    /// [`CabinetError::NameTaken`], [`CabinetError::Io`].
    fn add_item(&mut self, item: &StoredItem, sealed: &[u8]) -> Result<(), CabinetError>;
    /// Replaces an item's columns and sealed part.
    ///
    /// # Errors
    /// [`CabinetError::NameTaken`], [`CabinetError::Io`].
    fn change_item(&mut self, item: &StoredItem, sealed: &[u8]) -> Result<(), CabinetError>;

    /// All members.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn members(&self) -> Result<Vec<MemberRow>, CabinetError>;
    /// Adds a member, or replaces the one with that label.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn put_member(&mut self, member: &MemberRow) -> Result<(), CabinetError>;

    /// All history rows, oldest first.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn history(&self) -> Result<Vec<StoredHistory>, CabinetError>;
    /// The newest history row's sequence number and hash.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn newest_history(&self) -> Result<Option<(u64, Vec<u8>)>, CabinetError>;
    /// Appends a history row.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn add_history(&mut self, seq: u64, body: &str, previous: &[u8], hash: &[u8])
    -> Result<(), CabinetError>;

    /// All backups, oldest first.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn backups(&self) -> Result<Vec<BackupRow>, CabinetError>;
    /// Notes a backup.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn add_backup(&mut self, backup: &BackupRow) -> Result<(), CabinetError>;

    /// Writes a consistent copy of everything to a new file.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn copy_to(&self, path: &Path) -> Result<(), CabinetError>;
}
