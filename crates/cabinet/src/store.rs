//! What a database has to do for a cabinet: keep rows, in transactions, for several processes at once.

use std::path::Path;

use crate::CabinetError;

/// A history row as it is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredRow {
    /// Its number, from 1.
    pub seq: u64,
    /// `change` or `policy`.
    pub form: String,
    /// What it says, JSON, exactly the bytes that are hashed.
    pub body: String,
    /// Its author's signature.
    pub signature: Vec<u8>,
}

/// A record as it is stored, without its sealed part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredRecord {
    /// What kind of record it is.
    pub kind: String,
    /// Its id among its kind.
    pub id: String,
    /// What of it stands in clear: JSON, exactly the bytes that are digested.
    pub facts: String,
    /// The digest of its sealed part, where it has one.
    pub sealed_digest: Option<Vec<u8>>,
}

/// The same where it stands: most readers keep something smaller.
#[derive(Debug, Clone, Copy)]
pub struct RecordSeen<'a> {
    /// See [`StoredRecord::kind`].
    pub kind: &'a str,
    /// See [`StoredRecord::id`].
    pub id: &'a str,
    /// See [`StoredRecord::facts`].
    pub facts: &'a str,
    /// See [`StoredRecord::sealed_digest`].
    pub sealed_digest: Option<&'a [u8]>,
}

/// A sealed part as it is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredSeal {
    /// The kind of its record.
    pub kind: String,
    /// The id of its record.
    pub id: String,
    /// The sealed bytes.
    pub bytes: Vec<u8>,
}

/// Rows, and transactions over them. Nothing here knows what they mean, and nothing here is believed: what comes out
/// is proved by whoever asked.
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

    /// Shows every history row, oldest first.
    ///
    /// # Errors
    /// [`CabinetError::Io`], [`CabinetError::Tampered`] for rows of a form that is never written, and what `look` returns.
    fn each_row(
        &self,
        look: &mut dyn FnMut(StoredRow) -> Result<(), CabinetError>,
    ) -> Result<(), CabinetError>;
    /// One history row.
    ///
    /// # Errors
    /// [`CabinetError::Io`], [`CabinetError::Tampered`] for a row of a form that is never written.
    fn row(&self, seq: u64) -> Result<Option<StoredRow>, CabinetError>;
    /// The number of the newest history row.
    ///
    /// # Errors
    /// As [`Store::row`].
    fn newest(&self) -> Result<Option<u64>, CabinetError>;
    /// Shows every record, ascending by kind and id.
    ///
    /// # Errors
    /// As [`Store::each_row`].
    fn each_record(
        &self,
        look: &mut dyn FnMut(RecordSeen<'_>) -> Result<(), CabinetError>,
    ) -> Result<(), CabinetError>;
    /// One sealed part.
    ///
    /// # Errors
    /// As [`Store::row`].
    fn sealed(&self, kind: &str, id: &str) -> Result<Option<Vec<u8>>, CabinetError>;
    /// Shows every sealed part, ascending by kind and id.
    ///
    /// # Errors
    /// As [`Store::each_row`].
    fn each_sealed(
        &self,
        look: &mut dyn FnMut(StoredSeal) -> Result<(), CabinetError>,
    ) -> Result<(), CabinetError>;

    /// Appends a history row.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn add_row(&mut self, row: &StoredRow) -> Result<(), CabinetError>;
    /// Adds a record with its sealed part, or replaces the one with that kind and id.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn put_record(&mut self, record: &StoredRecord, sealed: Option<&[u8]>) -> Result<(), CabinetError>;
    /// Removes a record with its sealed part.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn remove_record(&mut self, kind: &str, id: &str) -> Result<(), CabinetError>;
    /// Removes everything, to make place for what is restored.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn clear(&mut self) -> Result<(), CabinetError>;

    /// Writes the file anew, without what was removed from it. Outside of transactions.
    ///
    /// # Errors
    /// [`CabinetError::Io`]; then it is as it was.
    fn write_anew(&mut self) -> Result<(), CabinetError>;
    /// Writes a consistent copy of what was committed to an empty file.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    fn copy_to(&self, path: &Path) -> Result<(), CabinetError>;
}
