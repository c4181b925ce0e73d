//! What the stand-in knows: one SQLite file in its folder. Every answer that changed something is kept with the key of its
//! call in the same transaction, so that a call which is made again after a cut is answered as the first was.

use std::path::Path;
use std::sync::atomic::AtomicBool;

use jiff::Timestamp;
use ninekeys_core::digest::{hex, sha256_hex};
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::keys::{Algorithm, KeyMaker, PrivateKey, PublicKey, Signer, SystemKeys};
use ninekeys_core::model::ApiRole;
use ninekeys_formats::pem;
use ninekeys_formats::secret::Secret;
use rusqlite::{Connection, OptionalExtension, Transaction, params};
use serde::Serialize;
use serde::de::DeserializeOwned;

use super::authority::{self, Authority, Kept};
use super::{ROOT, Settings, StandInError, TLS, folder_error};
use crate::wire::ApiKey;

/// The file in its folder.
const FILE: &str = "stand-in.sqlite";
/// The owner's key, made with the folder.
const FIRST_KEY: &str = "first-key.pem";
/// The file with the upload password that is made with a new folder.
const UPLOAD_PASSWORD: &str = "upload-password.txt";
/// The account that it is of.
const ACCOUNT: &str = "uploads@gannetpoint.example";
/// What it is called there.
const LABEL: &str = "build machine";

/// What is kept: things by kind and id, each as JSON; keys apart.
const SCHEMA: &str = "
    create table if not exists meta (name text primary key, value text not null) strict;
    create table if not exists signer (place integer primary key, secret blob not null, certificate blob not null) strict;
    create table if not exists thing (
        kind text not null, id text not null, made integer not null, body text not null, primary key (kind, id)) strict;
    create table if not exists api_key (
        key_id text primary key, public_key blob not null, secret blob, body text not null) strict;
    create table if not exists held_key (id text primary key, secret blob not null, certificate blob not null) strict;
    create table if not exists answered (call text primary key, status integer not null, body text not null) strict;
";

/// The key that was made with a new folder, for the account's owner.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirstKey {
    /// The file with the private key, in the folder.
    pub file: String,
    /// The key id.
    pub key_id: String,
    /// The issuer id.
    pub issuer: String,
}

/// The upload password that was made with a new folder: it uploads builds and sees how far they are, and does nothing else.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UploadPassword {
    /// The file with it, in the folder.
    pub file: String,
    /// The account that it is of.
    pub account: String,
    /// What it is called there.
    pub label: String,
}

/// What is made with a new folder for people to fetch.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct First {
    /// The owner's key.
    pub key: FirstKey,
    /// The upload password.
    pub upload_password: UploadPassword,
}

/// The state, open.
pub(super) struct State {
    database: Connection,
    pub(super) authority: Authority,
    pub(super) team: String,
    pub(super) title: String,
}

/// The computation's surroundings at a time.
pub(super) fn with_env<R>(now: Timestamp, work: impl FnOnce(&Env<'_>) -> R) -> R {
    let stop = AtomicBool::new(false);
    work(&Env {
        now,
        keys: &SystemKeys,
        progress: &Silent,
        scratch: &ninekeys_core::stream::InMemory,
        stop: &stop,
    })
}

/// Random bytes as digits.
fn random<const N: usize>() -> Result<String, StandInError> {
    let mut bytes = [0; N];
    SystemKeys.fill(&mut bytes)?;
    Ok(hex(&bytes))
}

impl State {
    /// Whether a password is an account's upload password.
    pub(super) fn uploads(&self, account: &str, password: &str) -> Result<bool, StandInError> {
        let known = meta(&self.database, &format!("upload password of {account}"))?;
        // digests are compared: how long that takes tells nothing of the password
        Ok(known.is_some_and(|known| known == sha256_hex(password.as_bytes())))
    }

    /// Opens the state in the folder, or makes it.
    pub(super) fn open(settings: &Settings, now: Timestamp) -> Result<(Self, Option<First>), StandInError> {
        let folder = &settings.folder;
        std::fs::create_dir_all(folder).map_err(folder_error(folder))?;
        let path = folder.join(FILE);
        if !path.exists() {
            // what is there without a state was made by somebody else
            let ours = [ROOT, FIRST_KEY, UPLOAD_PASSWORD, TLS].map(|name| folder.join(name));
            if let Some(taken) = ours.into_iter().find(|path| path.symlink_metadata().is_ok()) {
                return Err(StandInError::Taken(taken));
            }
        }
        let database = Connection::open(&path)?;
        private(&path)?;
        database.busy_timeout(std::time::Duration::from_secs(10))?;
        database.execute_batch(SCHEMA)?;
        let is_new = meta(&database, "team")?.is_none();
        let first = if is_new { Some(found(&database, settings, now)?) } else { None };
        let told = |name| meta(&database, name)?.ok_or(StandInError::Damaged("its names"));
        let (team, title) = (told("team")?, told("title")?);
        let kept = signers(&database)?;
        let authority = with_env(now, |env| Authority::of(&kept, env))?;
        put_certificate(&folder.join(ROOT), &authority.root().der)?;
        Ok((State { database, authority, team, title }, first))
    }

    /// A key of its own and its certificate, at a place; made where there is none.
    fn own(&self, place: u8, now: Timestamp) -> Result<Kept, StandInError> {
        let sql = "select secret, certificate from signer where place = ?1";
        let row =
            |row: &rusqlite::Row<'_>| Ok(Kept { secret: Secret::new(row.get(0)?), certificate: row.get(1)? });
        if let Some(known) = self.database.query_row(sql, [place], row).optional()? {
            return Ok(known);
        }
        let kept = with_env(now, authority::seal)?;
        let sql = "insert into signer (place, secret, certificate) values (?1, ?2, ?3)";
        kept.secret.lend(|secret| self.database.execute(sql, params![place, secret, kept.certificate]))?;
        Ok(kept)
    }

    /// The key that signing keys are encrypted to.
    pub(super) fn receiver(&self, now: Timestamp) -> Result<Kept, StandInError> {
        self.own(4, now)
    }

    /// The key that connections are sealed with, and its certificate, which is put into the folder; made where there is none.
    pub(super) fn tls(&mut self, folder: &Path, now: Timestamp) -> Result<Kept, StandInError> {
        let kept = self.own(3, now)?;
        put_certificate(&folder.join(TLS), &kept.certificate)?;
        Ok(kept)
    }

    /// Does something in one transaction.
    pub(super) fn change<R, E: From<rusqlite::Error>>(
        &mut self,
        work: impl FnOnce(&Transaction<'_>, &Authority) -> Result<R, E>,
    ) -> Result<R, E> {
        let transaction =
            self.database.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
        let result = work(&transaction, &self.authority)?;
        transaction.commit()?;
        Ok(result)
    }

    /// The public key of an API key, and what is known of it.
    pub(super) fn api_key(&self, key_id: &str) -> rusqlite::Result<Option<(PublicKey, ApiKey)>> {
        let mut query =
            self.database.prepare_cached("select public_key, body from api_key where key_id = ?1")?;
        let row = query.query_row([key_id], |row| Ok((row.get::<_, Vec<u8>>(0)?, row.get::<_, String>(1)?)));
        let found = row.optional()?;
        Ok(found.and_then(|(key, body)| {
            Some((PublicKey::from_der(&key).ok()?, serde_json::from_str(&body).ok()?))
        }))
    }

    /// A secret of the store's own, for links that only it can make.
    pub(super) fn salt(&self) -> rusqlite::Result<String> {
        if let Some(known) = meta(&self.database, "salt")? {
            return Ok(known);
        }
        let mut bytes = [0; 32];
        SystemKeys.fill(&mut bytes).map_err(|_| rusqlite::Error::InvalidQuery)?;
        let sql = "insert into meta (name, value) values ('salt', ?1)";
        self.database.execute(sql, [hex(&bytes)])?;
        Ok(hex(&bytes))
    }

    /// All things of a kind, in the order in which they came.
    pub(super) fn all<T: DeserializeOwned>(&self, kind: &str) -> rusqlite::Result<Vec<T>> {
        all(&self.database, kind)
    }
}

/// All things of a kind, in the order in which they came.
pub(super) fn all<T: DeserializeOwned>(database: &Connection, kind: &str) -> rusqlite::Result<Vec<T>> {
    let mut query = database.prepare_cached("select body from thing where kind = ?1 order by rowid")?;
    let rows = query.query_map([kind], |row| row.get::<_, String>(0))?;
    Ok(rows
        .collect::<Result<Vec<String>, _>>()?
        .iter()
        .filter_map(|body| serde_json::from_str(body).ok())
        .collect())
}

/// A thing by its id.
pub(super) fn one<T: DeserializeOwned>(
    database: &Connection,
    kind: &str,
    id: &str,
) -> rusqlite::Result<Option<T>> {
    let mut query = database.prepare_cached("select body from thing where kind = ?1 and id = ?2")?;
    let body = query.query_row([kind, id], |row| row.get::<_, String>(0)).optional()?;
    Ok(body.and_then(|body| serde_json::from_str(&body).ok()))
}

/// Takes a thing out.
pub(super) fn take_out(database: &Connection, kind: &str, id: &str) -> rusqlite::Result<()> {
    database.execute("delete from thing where kind = ?1 and id = ?2", params![kind, id]).map(|_| ())
}

/// Puts a thing in, or in the place of the one with its id.
pub(super) fn put<T: Serialize>(
    database: &Connection,
    kind: &str,
    id: &str,
    now: Timestamp,
    thing: &T,
) -> rusqlite::Result<()> {
    let body = serde_json::to_string(thing).unwrap_or_default();
    let sql = "insert into thing (kind, id, made, body) values (?1, ?2, ?3, ?4)
               on conflict (kind, id) do update set body = excluded.body";
    database.execute(sql, params![kind, id, now.as_second(), body]).map(|_| ())
}

/// What a call was answered with before.
pub(super) fn answered(database: &Connection, call: &str) -> rusqlite::Result<Option<(u16, String)>> {
    let mut query = database.prepare_cached("select status, body from answered where call = ?1")?;
    query.query_row([call], |row| Ok((row.get(0)?, row.get(1)?))).optional()
}

/// Keeps what a call was answered with.
pub(super) fn keep_answer(
    database: &Connection,
    call: &str,
    status: u16,
    body: &str,
) -> rusqlite::Result<()> {
    let sql = "insert into answered (call, status, body) values (?1, ?2, ?3)";
    database.execute(sql, params![call, status, body]).map(|_| ())
}

/// Makes an API key; its private half waits to be fetched, once.
pub(super) fn make_api_key(
    database: &Connection,
    issuer: &str,
    title: &str,
    role: ApiRole,
) -> Result<ApiKey, StandInError> {
    let secret = SystemKeys.make(Algorithm::P256)?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    let key_id = random::<5>()?.to_ascii_uppercase();
    let said =
        ApiKey { key_id: key_id.clone(), issuer: issuer.into(), title: title.into(), role, fetched: false };
    let body = serde_json::to_string(&said).map_err(|_| StandInError::Damaged("an API key"))?;
    let sql = "insert into api_key (key_id, public_key, secret, body) values (?1, ?2, ?3, ?4)";
    secret.lend(|secret| database.execute(sql, params![key_id, key.public().as_der(), secret, body]))?;
    Ok(said)
}

/// Takes the private key of an API key out, for good; nothing when it was taken before.
pub(super) fn fetch_api_key(database: &Connection, key_id: &str) -> rusqlite::Result<Option<String>> {
    let mut query = database.prepare("select secret, body from api_key where key_id = ?1")?;
    let row = query.query_row([key_id], |row| {
        Ok((row.get::<_, Option<Vec<u8>>>(0)?.map(Secret::new), row.get::<_, String>(1)?))
    });
    let Some((Some(secret), body)) = row.optional()? else { return Ok(None) };
    let Ok(said) = serde_json::from_str::<ApiKey>(&body) else { return Ok(None) };
    let body = serde_json::to_string(&ApiKey { fetched: true, ..said }).unwrap_or_default();
    let sql = "update api_key set secret = null, body = ?2 where key_id = ?1";
    database.execute(sql, params![key_id, body])?;
    Ok(secret.lend(|der| pem::encode(pem::PRIVATE_KEY, der)).ok())
}

/// Makes everything that a new folder has.
fn found(database: &Connection, settings: &Settings, now: Timestamp) -> Result<First, StandInError> {
    let kept = with_env(now, Authority::make)?;
    let issuer = random::<16>()?;
    let transaction = database.unchecked_transaction()?;
    for (place, one) in kept.iter().enumerate() {
        let sql = "insert into signer (place, secret, certificate) values (?1, ?2, ?3)";
        let place = i64::try_from(place).unwrap_or_default();
        one.secret.lend(|secret| transaction.execute(sql, params![place, secret, one.certificate]))?;
    }
    for (name, value) in [("team", &settings.team), ("title", &settings.title), ("issuer", &issuer)] {
        transaction.execute("insert into meta (name, value) values (?1, ?2)", params![name, value])?;
    }
    let first = make_api_key(&transaction, &issuer, "the owner's first key", ApiRole::Owner)?;
    let text = fetch_api_key(&transaction, &first.key_id)?.ok_or(StandInError::Damaged("the first key"))?;
    let file = settings.folder.join(FIRST_KEY);
    write(&file, text.as_bytes(), true).map_err(folder_error(&file))?;
    let upload_password = found_password(&transaction, settings)?;
    transaction.commit()?;
    Ok(First { key: FirstKey { file: FIRST_KEY.into(), key_id: first.key_id, issuer }, upload_password })
}

/// An account's upload password, of which the state keeps a digest alone: it is random, and as long as its digest counts.
fn found_password(database: &Connection, settings: &Settings) -> Result<UploadPassword, StandInError> {
    let password = Secret::new(random::<16>()?);
    let digest = password.lend(|password| sha256_hex(password.as_bytes()));
    let sql = "insert into meta (name, value) values (?1, ?2)";
    database.execute(sql, params![format!("upload password of {ACCOUNT}"), digest])?;
    let file = settings.folder.join(UPLOAD_PASSWORD);
    let text = password.lend(|password| Secret::new(format!("{password}\n")));
    text.lend(|text| write(&file, text.as_bytes(), true)).map_err(folder_error(&file))?;
    Ok(UploadPassword { file: UPLOAD_PASSWORD.into(), account: ACCOUNT.into(), label: LABEL.into() })
}

/// A name that was kept.
pub(super) fn meta(database: &Connection, name: &str) -> rusqlite::Result<Option<String>> {
    let mut query = database.prepare_cached("select value from meta where name = ?1")?;
    query.query_row([name], |row| row.get(0)).optional()
}

fn signers(database: &Connection) -> Result<[Kept; 3], StandInError> {
    let mut query =
        database.prepare("select secret, certificate from signer where place < 3 order by place")?;
    let rows =
        query.query_map([], |row| Ok(Kept { secret: Secret::new(row.get(0)?), certificate: row.get(1)? }))?;
    let all: Vec<Kept> = rows.collect::<Result<_, _>>()?;
    all.try_into().map_err(|_| StandInError::Damaged("its authorities"))
}

/// Puts a certificate where people find it; refuses where another's is there.
fn put_certificate(path: &Path, der: &[u8]) -> Result<(), StandInError> {
    let text = pem::encode(pem::CERTIFICATE, der).map_err(|_| StandInError::Damaged("a certificate"))?;
    match std::fs::read(path) {
        Ok(bytes) if bytes == text.as_bytes() => Ok(()),
        Ok(_) => Err(StandInError::Taken(path.to_owned())),
        Err(_) => write(path, text.as_bytes(), false).map_err(folder_error(path)),
    }
}

/// Writes a file of the stand-in's, whole, for everybody or for its owner alone.
pub(super) fn write(path: &Path, bytes: &[u8], is_secret: bool) -> std::io::Result<()> {
    use std::io::Write;
    let folder = path.parent().unwrap_or(Path::new("."));
    // a temporary file is for its owner alone from the start
    let mut file = tempfile::NamedTempFile::new_in(folder)?;
    file.write_all(bytes)?;
    #[cfg(unix)]
    if !is_secret {
        use std::os::unix::fs::PermissionsExt;
        file.as_file().set_permissions(std::fs::Permissions::from_mode(0o644))?;
    }
    file.as_file().sync_all()?;
    file.persist(path).map(|_| ()).map_err(|error| error.error)
}

/// A file with private keys is for its owner alone.
fn private(path: &Path) -> Result<(), StandInError> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::Permissions::from_mode(0o600);
        std::fs::set_permissions(path, mode).map_err(folder_error(path))?;
    }
    Ok(())
}
