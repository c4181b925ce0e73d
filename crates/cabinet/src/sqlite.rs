//! A cabinet in one SQLite database, with a write-ahead log so that readers never wait.

use std::path::Path;
use std::time::Duration;

use rusqlite::backup::Backup;
use rusqlite::{Connection, Error, ErrorCode, OpenFlags, OptionalExtension, Row, params};

use crate::CabinetError;
use crate::store::{BackupRow, MemberRow, Store, StoredHistory, StoredItem};

/// Marks the file as ours in its header.
const APPLICATION_ID: i64 = 0x394b_4559;
/// How long a writer waits for another.
const PATIENCE: Duration = Duration::from_secs(30);

/// Every step from one schema to the next. A cabinet of any earlier schema is brought up to date when it is
/// opened; a step, once released, never changes.
const MIGRATIONS: &[&str] = &[
    // 1: facts are one JSON document, exactly the bytes that the seal binds; what is searched for is derived
    // from it by the database, so that it cannot differ
    "create table value (name text primary key, value blob not null) strict, without rowid;
     create table member (
         label text primary key, kind text not null check (kind in ('passphrase', 'recipient')),
         recipient text, wrapped blob not null, added text not null) strict;
     create table item (
         id text primary key, name text not null unique collate nocase,
         state text not null check (state in ('active', 'retired')), generation integer not null,
         replaces text references item (id), revision integer not null, created text not null,
         seq integer not null,
         facts text not null, sealed blob not null,
         kind text generated always as (facts ->> '$.kind') stored,
         fingerprint text generated always as (facts ->> '$.fingerprint') stored,
         not_after text generated always as (facts ->> '$.not_after') stored) strict;
     create index item_kind on item (kind);
     create index item_fingerprint on item (fingerprint) where fingerprint is not null;
     create index item_not_after on item (not_after) where not_after is not null;
     create table history (
         seq integer primary key, body text not null, previous blob not null, hash blob not null) strict;
     create table backup (
         id integer primary key, at text not null, place text not null, seq integer not null) strict;",
];

/// See [`Store`].
pub struct SqliteStore {
    connection: Connection,
}

impl SqliteStore {
    /// Makes an empty cabinet in a new file.
    ///
    /// # Errors
    /// [`CabinetError::Exists`], [`CabinetError::Io`].
    pub fn create(path: &Path) -> Result<Self, CabinetError> {
        if path.exists() {
            return Err(CabinetError::Exists);
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(path, flags).map_err(failed)?;
        connection.pragma_update(None, "application_id", APPLICATION_ID).map_err(failed)?;
        Self::prepare(connection)
    }

    /// Opens a cabinet and brings its schema up to date.
    ///
    /// # Errors
    /// [`CabinetError::Missing`], [`CabinetError::NotACabinet`], [`CabinetError::TooNew`],
    /// [`CabinetError::Io`].
    pub fn open(path: &Path) -> Result<Self, CabinetError> {
        let connection = Self::connect(path)?;
        Self::prepare(connection)
    }

    /// Opens a copy to be proved, and leaves its file as it is.
    pub(crate) fn open_copy(path: &Path) -> Result<Self, CabinetError> {
        Ok(SqliteStore { connection: Self::connect(path)? })
    }

    fn connect(path: &Path) -> Result<Connection, CabinetError> {
        match std::fs::metadata(path) {
            Ok(found) if found.is_file() => {}
            Ok(_) => return Err(CabinetError::NotACabinet),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Err(CabinetError::Missing),
            Err(error) => return Err(CabinetError::Io(error.to_string())),
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(path, flags).map_err(failed)?;
        connection.busy_timeout(PATIENCE).map_err(failed)?;
        let id: i64 = connection
            .query_row("select application_id from pragma_application_id", [], |row| row.get(0))
            .map_err(failed)?;
        if id == APPLICATION_ID { Ok(connection) } else { Err(CabinetError::NotACabinet) }
    }

    fn prepare(mut connection: Connection) -> Result<Self, CabinetError> {
        connection.busy_timeout(PATIENCE).map_err(failed)?;
        connection.pragma_update(None, "journal_mode", "wal").map_err(failed)?;
        connection.pragma_update(None, "synchronous", "full").map_err(failed)?;
        connection.pragma_update(None, "foreign_keys", true).map_err(failed)?;
        migrate(&mut connection)?;
        Ok(SqliteStore { connection })
    }
}

impl SqliteStore {
    /// All rows of a query.
    fn rows<T>(
        &self,
        sql: &str,
        read: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, CabinetError> {
        let mut statement = self.connection.prepare_cached(sql).map_err(failed)?;
        let rows = statement.query_map([], read).map_err(failed)?;
        rows.collect::<Result<_, _>>().map_err(failed)
    }
}

fn migrate(connection: &mut Connection) -> Result<(), CabinetError> {
    let version = |c: &Connection| -> Result<i64, CabinetError> {
        c.query_row("select user_version from pragma_user_version", [], |row| row.get(0)).map_err(failed)
    };
    let known = MIGRATIONS.len() as i64;
    let found = version(connection)?;
    if found > known {
        return Err(CabinetError::TooNew { found, known });
    }
    if found == known {
        return Ok(());
    }
    let transaction =
        connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate).map_err(failed)?;
    // another process may have done it while this one waited
    let found = usize::try_from(version(&transaction)?).unwrap_or(0);
    for step in MIGRATIONS.iter().skip(found) {
        transaction.execute_batch(step).map_err(failed)?;
    }
    transaction.pragma_update(None, "user_version", known).map_err(failed)?;
    transaction.commit().map_err(failed)
}

fn failed(error: Error) -> CabinetError {
    match error.sqlite_error_code() {
        Some(ErrorCode::NotADatabase) => CabinetError::NotACabinet,
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => CabinetError::Busy,
        Some(ErrorCode::DatabaseCorrupt) => CabinetError::Tampered(error.to_string()),
        _ => CabinetError::Io(error.to_string()),
    }
}

fn name_taken(error: Error, name: &str) -> CabinetError {
    match error.sqlite_error_code() {
        Some(ErrorCode::ConstraintViolation) => CabinetError::NameTaken(name.into()),
        _ => failed(error),
    }
}

/// A count as SQLite keeps it; a negative one, which only meddling can make, reads as 0 and fits no proof.
fn number(row: &Row<'_>, column: usize) -> rusqlite::Result<u64> {
    let found: i64 = row.get(column)?;
    Ok(u64::try_from(found).unwrap_or(0))
}

fn stored(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

impl Store for SqliteStore {
    fn begin(&mut self) -> Result<(), CabinetError> {
        self.connection.execute_batch("begin immediate").map_err(failed)
    }

    fn begin_reading(&mut self) -> Result<(), CabinetError> {
        self.connection.execute_batch("begin deferred").map_err(failed)
    }

    fn commit(&mut self) -> Result<(), CabinetError> {
        self.connection.execute_batch("commit").map_err(|error| {
            let reason = failed(error);
            self.roll_back();
            reason
        })
    }

    fn roll_back(&mut self) {
        // there is nothing to roll back when the database did so itself
        let _ = self.connection.execute_batch("rollback");
    }

    fn value(&self, name: &str) -> Result<Option<Vec<u8>>, CabinetError> {
        self.connection
            .query_row("select value from value where name = ?1", [name], |row| row.get(0))
            .optional()
            .map_err(failed)
    }

    fn set_value(&mut self, name: &str, value: &[u8]) -> Result<(), CabinetError> {
        let sql = "insert into value (name, value) values (?1, ?2)
                   on conflict (name) do update set value = excluded.value";
        self.connection.execute(sql, params![name, value]).map_err(failed)?;
        Ok(())
    }

    fn items(&self) -> Result<Vec<StoredItem>, CabinetError> {
        let sql = "select id, name, state, generation, replaces, revision, created, seq, facts from item";
        self.rows(sql, |row| {
            Ok(StoredItem {
                id: row.get(0)?,
                name: row.get(1)?,
                state: row.get(2)?,
                generation: row.get(3)?,
                replaces: row.get(4)?,
                revision: row.get(5)?,
                created: row.get(6)?,
                seq: number(row, 7)?,
                facts: row.get(8)?,
            })
        })
    }

    fn sealed(&self, id: &str) -> Result<Option<Vec<u8>>, CabinetError> {
        let mut statement =
            self.connection.prepare_cached("select sealed from item where id = ?1").map_err(failed)?;
        statement.query_row([id], |row| row.get(0)).optional().map_err(failed)
    }

    fn add_item(&mut self, item: &StoredItem, sealed: &[u8]) -> Result<(), CabinetError> {
        let sql = "insert into item (id, name, state, generation, replaces, revision, created, seq, facts,
                   sealed) values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)";
        self.connection
            .execute(
                sql,
                params![
                    item.id,
                    item.name,
                    item.state,
                    item.generation,
                    item.replaces,
                    item.revision,
                    item.created,
                    stored(item.seq),
                    item.facts,
                    sealed
                ],
            )
            .map_err(|error| name_taken(error, &item.name))?;
        Ok(())
    }

    fn change_item(&mut self, item: &StoredItem, sealed: &[u8]) -> Result<(), CabinetError> {
        let sql = "update item set name = ?2, state = ?3, generation = ?4, replaces = ?5, revision = ?6,
                   seq = ?7, facts = ?8, sealed = ?9 where id = ?1";
        self.connection
            .execute(
                sql,
                params![
                    item.id,
                    item.name,
                    item.state,
                    item.generation,
                    item.replaces,
                    item.revision,
                    stored(item.seq),
                    item.facts,
                    sealed
                ],
            )
            .map_err(|error| name_taken(error, &item.name))?;
        Ok(())
    }

    fn members(&self) -> Result<Vec<MemberRow>, CabinetError> {
        let sql = "select label, kind, recipient, wrapped, added from member order by added, label";
        self.rows(sql, |row| {
            Ok(MemberRow {
                label: row.get(0)?,
                kind: row.get(1)?,
                recipient: row.get(2)?,
                wrapped: row.get(3)?,
                added: row.get(4)?,
            })
        })
    }

    fn put_member(&mut self, member: &MemberRow) -> Result<(), CabinetError> {
        let sql = "insert into member (label, kind, recipient, wrapped, added) values (?1, ?2, ?3, ?4, ?5)
                   on conflict (label) do update set kind = excluded.kind, recipient = excluded.recipient,
                   wrapped = excluded.wrapped";
        let values = params![member.label, member.kind, member.recipient, member.wrapped, member.added];
        self.connection.execute(sql, values).map_err(failed)?;
        Ok(())
    }

    fn history(&self) -> Result<Vec<StoredHistory>, CabinetError> {
        let sql = "select seq, body, previous, hash from history order by seq";
        self.rows(sql, |row| {
            Ok(StoredHistory {
                seq: number(row, 0)?,
                body: row.get(1)?,
                previous: row.get(2)?,
                hash: row.get(3)?,
            })
        })
    }

    fn newest_history(&self) -> Result<Option<(u64, Vec<u8>)>, CabinetError> {
        let sql = "select seq, hash from history order by seq desc limit 1";
        self.connection
            .query_row(sql, [], |row| Ok((number(row, 0)?, row.get(1)?)))
            .optional()
            .map_err(failed)
    }

    fn add_history(
        &mut self,
        seq: u64,
        body: &str,
        previous: &[u8],
        hash: &[u8],
    ) -> Result<(), CabinetError> {
        let sql = "insert into history (seq, body, previous, hash) values (?1, ?2, ?3, ?4)";
        self.connection.execute(sql, params![stored(seq), body, previous, hash]).map_err(failed)?;
        Ok(())
    }

    fn backups(&self) -> Result<Vec<BackupRow>, CabinetError> {
        self.rows("select at, place, seq from backup order by id", |row| {
            Ok(BackupRow { at: row.get(0)?, place: row.get(1)?, seq: number(row, 2)? })
        })
    }

    fn add_backup(&mut self, backup: &BackupRow) -> Result<(), CabinetError> {
        let sql = "insert into backup (at, place, seq) values (?1, ?2, ?3)";
        self.connection.execute(sql, params![backup.at, backup.place, stored(backup.seq)]).map_err(failed)?;
        Ok(())
    }

    fn copy_to(&self, path: &Path) -> Result<(), CabinetError> {
        let mut copy = Connection::open(path).map_err(failed)?;
        let backup = Backup::new(&self.connection, &mut copy).map_err(failed)?;
        backup.run_to_completion(4096, Duration::ZERO, None).map_err(failed)?;
        drop(backup);
        // one file that needs no log beside it
        copy.pragma_update(None, "journal_mode", "delete").map_err(failed)?;
        copy.close().map_err(|(_, error)| failed(error))
    }
}
