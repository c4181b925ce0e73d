//! A cabinet in one SQLite database: one file, with a rollback journal beside it only while it is being changed.
//!
//! Nothing in the file is believed. Before it is opened its header and what lies beside it are looked at; before the
//! first query its schema has to be ours to the letter; triggers, views and functions of its own never run; lengths
//! and counts have limits. What the rows say is proved elsewhere.

use std::fs::File;
use std::io::{ErrorKind, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::config::DbConfig;
use rusqlite::ffi::SQLITE_IOERR_DIR_FSYNC;
use rusqlite::limits::Limit;
use rusqlite::types::Type;
use rusqlite::{Connection, Error, ErrorCode, OpenFlags, OptionalExtension, Row, params};
use tempfile::TempDir;

use crate::CabinetError;
use crate::store::{RecordSeen, Store, StoredRecord, StoredRow, StoredSeal};

/// Marks the file as ours in its header.
const APPLICATION_ID: u32 = 0x394b_4559;
/// The layout that is written and read, `user_version` in the header.
pub(crate) const LAYOUT: u32 = 2;
/// How long a writer waits for another.
const PATIENCE: Duration = Duration::from_secs(30);
/// The size of a page, in bytes. In a smaller one the usual certificate has no room, and its rest stands on a page of its own
/// (SQLite file format, section 1.6): a third more to read, in four times as many pieces.
const PAGE: u32 = 16 << 10;
/// The longest row: a change of 200,000 records.
const MOST_BYTES: i32 = 64 << 20;
/// The most that all rows of one table have together.
const MOST_IN_ALL: usize = 1 << 30;
/// A journal's header (SQLite file format, section 3): what it begins with.
const JOURNAL_MAGIC: [u8; 8] = [0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7];

/// The tables. No index and no generated column: their answers could be made to differ from the rows.
const SCHEMA: &[(&str, &str)] = &[
    (
        "history",
        "CREATE TABLE history (seq integer primary key, form text not null, body text not null, \
         signature blob not null) strict",
    ),
    (
        "record",
        "CREATE TABLE record (kind text not null, id text not null, facts text not null, sealed_digest blob, \
         primary key (kind, id)) strict, without rowid",
    ),
    (
        "sealed",
        "CREATE TABLE sealed (kind text not null, id text not null, bytes blob not null, \
         primary key (kind, id)) strict, without rowid",
    ),
];

/// See [`Store`].
pub struct SqliteStore {
    connection: Connection,
    path: PathBuf,
    /// Where a change that was cut off in a read-only place was brought to its end.
    recovered: Option<TempDir>,
}

impl SqliteStore {
    /// Makes an empty cabinet in a new file, or in one that is there and empty.
    ///
    /// # Errors
    /// [`CabinetError::Exists`], [`CabinetError::Io`].
    pub fn create(path: &Path) -> Result<Self, CabinetError> {
        if path.metadata().is_ok_and(|found| found.len() > 0) {
            return Err(CabinetError::Exists);
        }
        let connection = Connection::open_with_flags(path, flags() | OpenFlags::SQLITE_OPEN_CREATE);
        let connection = connection.map_err(written)?;
        let make = || -> rusqlite::Result<()> {
            connection.pragma_update(None, "page_size", PAGE)?;
            connection.pragma_update(None, "application_id", APPLICATION_ID)?;
            connection.pragma_update(None, "user_version", LAYOUT)?;
            SCHEMA.iter().try_for_each(|(_, sql)| connection.execute_batch(sql))
        };
        make().map_err(written)?;
        Self::guarded(connection, path, None)
    }

    /// Opens a cabinet. Nothing is written, unless a change was cut off by a kill: then it is taken back, in the file
    /// where that can be written, else in a private copy.
    ///
    /// # Errors
    /// [`CabinetError::Missing`], [`CabinetError::NotACabinet`], [`CabinetError::TooNew`],
    /// [`CabinetError::Tampered`], [`CabinetError::Io`].
    pub fn open(path: &Path) -> Result<Self, CabinetError> {
        // what lies beside it lies beside the file itself, not beside a link to it
        let path = &path.canonicalize().unwrap_or_else(|_| path.to_owned());
        let cut_off = look_before(path)?;
        if cut_off && !is_writable(path) {
            return Self::openrecovered(path);
        }
        let connection = Connection::open_with_flags(path, flags()).map_err(read)?;
        Self::guarded(connection, path, None)
    }

    /// Opens a second connection to a cabinet that this process has open: its file is not touched in any other way,
    /// since a system's locks would fall with the first handle that is closed.
    pub(crate) fn open_beside(&self) -> Result<Self, CabinetError> {
        let connection = Connection::open_with_flags(&self.path, flags()).map_err(read)?;
        Self::guarded(connection, &self.path, None)
    }

    /// Opens a copy that nobody writes, without locks or any file beside it: its bytes are the same afterwards.
    ///
    /// # Errors
    /// As [`SqliteStore::open`]; a copy with a journal beside it is refused.
    pub fn open_copy(path: &Path) -> Result<Self, CabinetError> {
        if look_before(path)? {
            return Err(CabinetError::Unfinished(path.to_owned()));
        }
        let flags =
            OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(immutable(path), flags).map_err(read)?;
        Self::guarded(connection, path, None)
    }

    /// A copy of file and journal in a private folder, where the change that was cut off is taken back.
    fn openrecovered(path: &Path) -> Result<Self, CabinetError> {
        let failed = |cause: std::io::Error| CabinetError::Io { action: "read", cause: cause.to_string() };
        let private = private_folder().map_err(failed)?;
        let copy = private.path().join("cabinet");
        std::fs::copy(path, &copy).map_err(failed)?;
        match std::fs::copy(beside(path, "-journal"), beside(&copy, "-journal")) {
            Ok(_) => {}
            // somebody who may write took the change back meanwhile
            Err(error) if error.kind() == ErrorKind::NotFound => return Self::open(path),
            Err(error) => return Err(failed(error)),
        }
        for file in [&copy, &beside(&copy, "-journal")] {
            make_writable(file).map_err(failed)?;
        }
        let connection = Connection::open_with_flags(&copy, flags()).map_err(read)?;
        let store = Self::guarded(connection, path, Some(private))?;
        // what is written into a private copy would be lost
        store.connection.pragma_update(None, "query_only", true).map_err(read)?;
        Ok(store)
    }

    /// Takes from the file every means to act by itself, and compares its schema before anything is asked of it.
    fn guarded(
        connection: Connection,
        path: &Path,
        recovered: Option<TempDir>,
    ) -> Result<Self, CabinetError> {
        let guard = || -> rusqlite::Result<()> {
            connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true)?;
            for off in [
                DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER,
                DbConfig::SQLITE_DBCONFIG_ENABLE_VIEW,
                DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA,
                DbConfig::SQLITE_DBCONFIG_DQS_DML,
                DbConfig::SQLITE_DBCONFIG_DQS_DDL,
            ] {
                connection.set_db_config(off, false)?;
            }
            connection.set_limit(Limit::SQLITE_LIMIT_LENGTH, MOST_BYTES)?;
            connection.set_limit(Limit::SQLITE_LIMIT_SQL_LENGTH, 64 << 10)?;
            connection.set_limit(Limit::SQLITE_LIMIT_TRIGGER_DEPTH, 0)?;
            connection.busy_timeout(PATIENCE)?;
            connection.pragma_update(None, "cell_size_check", true)?;
            connection.pragma_update(None, "synchronous", "extra")?;
            connection.pragma_update(None, "secure_delete", true)
        };
        guard().map_err(read)?;
        compare_schema(&connection)?;
        Ok(SqliteStore { connection, path: path.to_owned(), recovered })
    }

    /// All rows of a query, as long as they are not more than anybody has: `look` returns how many bytes it saw.
    fn each(
        &self,
        sql: &str,
        mut look: impl FnMut(&Row<'_>) -> Result<usize, CabinetError>,
    ) -> Result<(), CabinetError> {
        let mut statement = self.connection.prepare_cached(sql).map_err(read)?;
        let mut rows = statement.query([]).map_err(read)?;
        let mut all = 0usize;
        while let Some(row) = rows.next().map_err(read)? {
            all = all.saturating_add(look(row)?);
            if all > MOST_IN_ALL {
                return Err(CabinetError::Tampered("there is more in it than any cabinet has".into()));
            }
        }
        Ok(())
    }

    /// Has the folder synced in which a journal was deleted: that it is gone is what makes a change.
    fn ask_again(&self) -> Result<(), CabinetError> {
        let folder = self.path.parent().filter(|folder| !folder.as_os_str().is_empty());
        let synced = File::open(folder.unwrap_or(Path::new("."))).and_then(|folder| folder.sync_all());
        synced.map_err(|cause| CabinetError::MayNotLast(cause.to_string()))
    }

    /// Who holds the cabinet, as far as the system tells.
    fn busy(&self, error: Error) -> CabinetError {
        match written(error) {
            CabinetError::Busy(_) => CabinetError::Busy(holder(&self.path)),
            other => other,
        }
    }
}

/// Whether an error says that a change is made and may not last: the journal is deleted, and its folder was not synced.
fn is_made(error: &Error) -> bool {
    error.sqlite_error().is_some_and(|error| error.extended_code == SQLITE_IOERR_DIR_FSYNC)
}

fn flags() -> OpenFlags {
    // a file that cannot be written is opened for reading
    OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX
}

/// The database's name for a file that never changes.
fn immutable(path: &Path) -> String {
    let mut out = String::from("file:");
    for byte in path.as_os_str().as_encoded_bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'-' | b'_' | b'.' => {
                out.push(char::from(*byte))
            }
            other => out.push_str(&format!("%{other:02X}")),
        }
    }
    out + "?immutable=1"
}

/// The file and what lies beside it, before the database sees them: a regular file of our kind and layout that wants no
/// write-ahead log; and a journal, if there is one, that names no other file, since the database would delete that one.
/// Tells whether the journal has something to take back.
fn look_before(path: &Path) -> Result<bool, CabinetError> {
    let failed = |cause: std::io::Error| CabinetError::Io { action: "read", cause: cause.to_string() };
    let found = match std::fs::metadata(path) {
        Ok(found) => found,
        Err(error) if error.kind() == ErrorKind::NotFound => return Err(CabinetError::Missing),
        Err(error) => return Err(failed(error)),
    };
    if !found.is_file() {
        return Err(CabinetError::NotACabinet);
    }
    let mut header = [0; 100];
    match File::open(path).and_then(|mut file| file.read_exact(&mut header)) {
        Ok(()) => {}
        Err(error) if error.kind() == ErrorKind::UnexpectedEof => {
            return Err(CabinetError::NotACabinet);
        }
        Err(error) => return Err(failed(error)),
    }
    let number = |at: usize| {
        let bytes = header.get(at..at + 4).and_then(|bytes| bytes.try_into().ok());
        bytes.map_or(0, u32::from_be_bytes)
    };
    if !header.starts_with(b"SQLite format 3\0") || number(68) != APPLICATION_ID {
        return Err(CabinetError::NotACabinet);
    }
    if number(60) != LAYOUT {
        return Err(CabinetError::TooNew { found: number(60), known: LAYOUT });
    }
    let meddled = |what: &str| Err(CabinetError::Tampered(what.into()));
    if header.get(18..20) != Some(&[1, 1]) {
        return meddled("its header asks for a write-ahead log, which this tool never makes");
    }
    if beside(path, "-wal").exists() || beside(path, "-shm").exists() {
        return meddled("a write-ahead log lies beside it, which this tool never makes");
    }
    let journal = beside(path, "-journal");
    if std::fs::symlink_metadata(&journal).is_ok_and(|found| !found.is_file()) {
        return meddled("what lies beside it as its journal is no file");
    }
    // opened once: whoever is just finishing a change takes it away, and then there is none
    let mut journal = match File::open(journal) {
        Ok(journal) => journal,
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(false),
        Err(error) => return Err(failed(error)),
    };
    if names_another(&mut journal).map_err(failed)? {
        return meddled("the journal beside it names another file, which this tool never does");
    }
    // one whose header was not written yet has nothing to take back
    let mut first = [0; 8];
    let read = journal.rewind().and_then(|()| journal.read(&mut first)).map_err(failed)?;
    Ok(read == first.len() && first == JOURNAL_MAGIC)
}

/// Whether a journal ends with the name of a super-journal: a length and a checksum, then the magic again.
fn names_another(journal: &mut File) -> std::io::Result<bool> {
    let length = journal.metadata()?.len();
    let Some(at) = length.checked_sub(8) else { return Ok(false) };
    journal.seek(SeekFrom::Start(at))?;
    let mut end = [0; 8];
    match journal.read_exact(&mut end) {
        Ok(()) => Ok(length >= 16 && end == JOURNAL_MAGIC),
        // somebody who finishes a change has just cut it off
        Err(error) if error.kind() == ErrorKind::UnexpectedEof => Ok(false),
        Err(error) => Err(error),
    }
}

/// The name of a file beside the database's.
pub(crate) fn beside(path: &Path, suffix: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(suffix);
    PathBuf::from(name)
}

/// Whether the database could finish there what was cut off: in the file, and beside it.
fn is_writable(path: &Path) -> bool {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let file = std::fs::OpenOptions::new().write(true).open(path).is_ok();
    file && tempfile::tempfile_in(folder).is_ok()
}

fn private_folder() -> std::io::Result<TempDir> {
    let mut builder = tempfile::Builder::new();
    builder.prefix("ninekeys-look-");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        builder.permissions(std::fs::Permissions::from_mode(0o700));
    }
    builder.tempdir()
}

#[cfg(unix)]
fn make_writable(file: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(file, std::fs::Permissions::from_mode(0o600))
}

#[cfg(not(unix))]
fn make_writable(file: &Path) -> std::io::Result<()> {
    let mut permissions = std::fs::metadata(file)?.permissions();
    permissions.set_readonly(false);
    std::fs::set_permissions(file, permissions)
}

fn compare_schema(connection: &Connection) -> Result<(), CabinetError> {
    let other = || CabinetError::Tampered("its tables are not those that this tool makes".into());
    let sql = "select type, name, tbl_name, sql from sqlite_schema";
    let found = (|| -> rusqlite::Result<Vec<[Option<String>; 4]>> {
        let mut statement = connection.prepare(sql)?;
        let mut rows = statement.query([])?;
        let mut out = Vec::new();
        while let Some(row) = rows.next()? {
            out.push([row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?]);
            if out.len() > SCHEMA.len() {
                break;
            }
        }
        Ok(out)
    })();
    let found = match found {
        Ok(found) => found,
        Err(error) => {
            return Err(match read(error) {
                CabinetError::Tampered(_) => other(),
                unread => unread,
            });
        }
    };
    let ours: Vec<[Option<String>; 4]> = SCHEMA
        .iter()
        .map(|(name, sql)| ["table", name, name, sql].map(|text| Some(text.to_owned())))
        .collect();
    if found == ours { Ok(()) } else { Err(other()) }
}

fn read(error: Error) -> CabinetError {
    failed(error, "read")
}

fn written(error: Error) -> CabinetError {
    failed(error, "written")
}

fn failed(error: Error, action: &'static str) -> CabinetError {
    use ErrorCode as Code;
    match error.sqlite_error_code() {
        Some(Code::NotADatabase) => CabinetError::NotACabinet,
        Some(Code::DatabaseBusy | Code::DatabaseLocked) => CabinetError::Busy(None),
        Some(Code::DatabaseCorrupt | Code::TooBig | Code::TypeMismatch | Code::ConstraintViolation) => {
            CabinetError::Tampered(error.to_string())
        }
        Some(Code::DiskFull) => CabinetError::Io { action, cause: "the disk is full".into() },
        Some(Code::ReadOnly) => {
            CabinetError::Io { action, cause: "it, or the folder that it is in, is read-only".into() }
        }
        Some(Code::CannotOpen) if action == "written" => {
            CabinetError::Io { action, cause: "nothing can be made in the folder that it is in".into() }
        }
        Some(Code::PermissionDenied) => CabinetError::Io { action, cause: "you have no permission".into() },
        Some(_) => CabinetError::Io { action, cause: error.to_string() },
        // a column of another type than ours, or text that is none
        None => CabinetError::Tampered(error.to_string()),
    }
}

/// The process that holds a lock on the file, as Linux tells it.
#[cfg(target_os = "linux")]
fn holder(path: &Path) -> Option<String> {
    use std::os::unix::fs::MetadataExt;
    let inode = std::fs::metadata(path).ok()?.ino().to_string();
    let locks = std::fs::read_to_string("/proc/locks").ok()?;
    let own = std::process::id().to_string();
    let of = |line: &str| {
        let words: Vec<&str> = line.split_whitespace().filter(|word| *word != "->").collect();
        let file = words.iter().find(|word| word.matches(':').count() == 2)?;
        (file.rsplit(':').next() == Some(inode.as_str())).then(|| words.get(4).map(ToString::to_string))?
    };
    let process = locks.lines().filter_map(of).find(|process| *process != own)?;
    let name = std::fs::read_to_string(format!("/proc/{process}/comm")).unwrap_or_default();
    Some(format!("process {process} ({})", name.trim()))
}

#[cfg(not(target_os = "linux"))]
fn holder(_path: &Path) -> Option<String> {
    None
}

/// A count as the database keeps it; a negative one, which only meddling can make, is no row's number.
fn number(row: &Row<'_>, column: usize) -> rusqlite::Result<u64> {
    let found: i64 = row.get(column)?;
    u64::try_from(found).map_err(|_| Error::InvalidColumnType(column, "seq".into(), Type::Integer))
}

fn history_row(row: &Row<'_>) -> rusqlite::Result<StoredRow> {
    Ok(StoredRow { seq: number(row, 0)?, form: row.get(1)?, body: row.get(2)?, signature: row.get(3)? })
}

fn record_seen<'a>(row: &'a Row<'_>) -> rusqlite::Result<RecordSeen<'a>> {
    Ok(RecordSeen {
        kind: row.get_ref(0)?.as_str()?,
        id: row.get_ref(1)?.as_str()?,
        facts: row.get_ref(2)?.as_str()?,
        sealed_digest: row.get_ref(3)?.as_blob_or_null()?,
    })
}

impl Store for SqliteStore {
    fn begin(&mut self) -> Result<(), CabinetError> {
        self.connection.execute_batch("begin immediate").map_err(|error| self.busy(error))
    }

    fn begin_reading(&mut self) -> Result<(), CabinetError> {
        self.connection.execute_batch("begin deferred").map_err(read)
    }

    fn commit(&mut self) -> Result<(), CabinetError> {
        self.connection.execute_batch("commit").or_else(|error| {
            let is_made = is_made(&error);
            let reason = self.busy(error);
            self.roll_back();
            if is_made { self.ask_again() } else { Err(reason) }
        })
    }

    fn roll_back(&mut self) {
        // there is nothing to roll back when the database did so itself
        let _ = self.connection.execute_batch("rollback");
    }

    fn each_row(
        &self,
        look: &mut dyn FnMut(StoredRow) -> Result<(), CabinetError>,
    ) -> Result<(), CabinetError> {
        self.each("select seq, form, body, signature from history order by seq", |row| {
            let row = history_row(row).map_err(read)?;
            let size = row.body.len() + 200;
            look(row).map(|()| size)
        })
    }

    fn row(&self, seq: u64) -> Result<Option<StoredRow>, CabinetError> {
        let sql = "select seq, form, body, signature from history where seq = ?1";
        let mut statement = self.connection.prepare_cached(sql).map_err(read)?;
        let seq = i64::try_from(seq).unwrap_or(i64::MAX);
        statement.query_row([seq], history_row).optional().map_err(read)
    }

    fn newest(&self) -> Result<Option<u64>, CabinetError> {
        let sql = "select seq from history order by seq desc limit 1";
        let mut statement = self.connection.prepare_cached(sql).map_err(read)?;
        statement.query_row([], |row| number(row, 0)).optional().map_err(read)
    }

    fn each_record(
        &self,
        look: &mut dyn FnMut(RecordSeen<'_>) -> Result<(), CabinetError>,
    ) -> Result<(), CabinetError> {
        self.each("select kind, id, facts, sealed_digest from record", |row| {
            let record = record_seen(row).map_err(read)?;
            let size = record.facts.len() + record.id.len() + 200;
            look(record).map(|()| size)
        })
    }

    fn sealed(&self, kind: &str, id: &str) -> Result<Option<Vec<u8>>, CabinetError> {
        let sql = "select bytes from sealed where kind = ?1 and id = ?2";
        let mut statement = self.connection.prepare_cached(sql).map_err(read)?;
        statement.query_row([kind, id], |row| row.get(0)).optional().map_err(read)
    }

    fn each_sealed(
        &self,
        look: &mut dyn FnMut(StoredSeal) -> Result<(), CabinetError>,
    ) -> Result<(), CabinetError> {
        self.each("select kind, id, bytes from sealed", |row| {
            let seal = (|| Ok(StoredSeal { kind: row.get(0)?, id: row.get(1)?, bytes: row.get(2)? }))();
            let seal = seal.map_err(read)?;
            let size = seal.bytes.len();
            look(seal).map(|()| size)
        })
    }

    fn add_row(&mut self, row: &StoredRow) -> Result<(), CabinetError> {
        let sql = "insert into history (seq, form, body, signature) values (?1, ?2, ?3, ?4)";
        let seq = i64::try_from(row.seq).unwrap_or(i64::MAX);
        let done = self.connection.execute(sql, params![seq, row.form, row.body, row.signature]);
        done.map(|_| ()).map_err(written)
    }

    fn put_record(&mut self, record: &StoredRecord, sealed: Option<&[u8]>) -> Result<(), CabinetError> {
        let StoredRecord { kind, id, facts, sealed_digest } = record;
        let put = || -> rusqlite::Result<()> {
            let sql = "insert into record (kind, id, facts, sealed_digest) values (?1, ?2, ?3, ?4)
                       on conflict (kind, id) do update set facts = excluded.facts,
                       sealed_digest = excluded.sealed_digest";
            self.connection.prepare_cached(sql)?.execute(params![kind, id, facts, sealed_digest])?;
            match sealed {
                Some(bytes) => {
                    let sql = "insert into sealed (kind, id, bytes) values (?1, ?2, ?3)
                               on conflict (kind, id) do update set bytes = excluded.bytes";
                    self.connection.prepare_cached(sql)?.execute(params![kind, id, bytes])?;
                }
                None => {
                    let sql = "delete from sealed where kind = ?1 and id = ?2";
                    self.connection.prepare_cached(sql)?.execute([kind, id])?;
                }
            }
            Ok(())
        };
        put().map_err(written)
    }

    fn remove_record(&mut self, kind: &str, id: &str) -> Result<(), CabinetError> {
        let remove = || -> rusqlite::Result<()> {
            for sql in [
                "delete from record where kind = ?1 and id = ?2",
                "delete from sealed where kind = ?1 and id = ?2",
            ] {
                self.connection.prepare_cached(sql)?.execute([kind, id])?;
            }
            Ok(())
        };
        remove().map_err(written)
    }

    fn clear(&mut self) -> Result<(), CabinetError> {
        let sql = "delete from history; delete from record; delete from sealed";
        self.connection.execute_batch(sql).map_err(written)
    }

    fn write_anew(&mut self) -> Result<(), CabinetError> {
        let anew = || -> rusqlite::Result<()> {
            self.connection.pragma_update(None, "page_size", PAGE)?;
            self.connection.execute_batch("vacuum")
        };
        anew().map_err(|error| self.busy(error))
    }

    fn copy_to(&self, path: &Path) -> Result<(), CabinetError> {
        let text = path.to_str().ok_or(CabinetError::Io {
            action: "written",
            cause: "the name of its copy is not text".into(),
        })?;
        let copy = |connection: &Connection| connection.execute("vacuum into ?1", [text]).map(|_| ());
        match &self.recovered {
            Some(_) => copy(&self.connection),
            // another connection reads what was committed, also while this one has begun to write
            None => copy(&self.open_beside()?.connection),
        }
        .map_err(|error| self.busy(error))
    }
}

#[cfg(test)]
mod tests;
