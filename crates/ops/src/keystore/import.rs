//! `keystore import`: keys out of a PKCS#12 or JKS file, sealed in the cabinet.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, NewItem};
use ninekeys_core::certificate::is_debug_certificate;
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::keys::{KeyError, PrivateKey};
use ninekeys_core::keystore::{
    Format, KeystoreError as FormatError, OpenStore, StoredKey, UnlockedKey, open,
};
use ninekeys_core::model::{Facts, Inventory, KeystoreFacts, NameError, ReleaseFacts, Role, check_name};
use ninekeys_core::password;
use ninekeys_core::rules::is_too_short;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::SecretText;
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::{self, AppSaid, CertificateSaid, KeySaid};
use crate::ask::{self, AskError};
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError};
use crate::keystore::{self, AppsError, NewKey, NoAlias, OtherKey};

/// The keystore to be imported.
#[derive(Debug)]
pub struct Request {
    /// The file.
    pub file: PathBuf,
    /// What it is called in the cabinet; after the file when nothing is said.
    pub name: Option<String>,
    /// The aliases wanted; all when none is named.
    pub aliases: Vec<String>,
    /// What the keys are for.
    pub role: Role,
    /// The apps that they are for.
    pub apps: Vec<String>,
    /// The store's password; asked for when it is not given.
    pub password: Option<SecretText>,
    /// Keys' own passwords, by alias.
    pub key_passwords: Vec<(String, SecretText)>,
}

/// What was imported.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeystoreImportReport {
    /// What it is called in the cabinet.
    pub keystore: String,
    /// The file.
    pub file: String,
    /// What the file was.
    pub format: Format,
    /// How it was encrypted.
    pub encryption: String,
    /// Whether a digest or a MAC in it said that it is as it was written.
    pub authenticated: bool,
    /// Whether its private keys stood in it for everybody to read.
    pub open_keys: bool,
    /// The keys.
    pub keys: Vec<ImportedKey>,
    /// Aliases that were there and not asked for.
    pub left: Vec<String>,
    /// What the keys are for.
    pub role: Role,
    /// The apps they are for.
    pub apps: Vec<AppSaid>,
    /// Whether the store's password is easy to guess.
    pub weak_password: bool,
    /// The time of the import.
    pub at: Timestamp,
}

/// One imported key.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ImportedKey {
    /// Its alias.
    pub alias: String,
    /// The key.
    pub key: KeySaid,
    /// Its certificate.
    pub certificate: CertificateSaid,
    /// Where the cabinet held the same key already: KEYSTORE/ALIAS.
    pub same_as: Vec<String>,
    /// Other keys of this kind that the apps have.
    pub others: Vec<OtherKey>,
    /// Releases of the apps that were signed with this key under another certificate, by file.
    pub released_otherwise: Vec<String>,
    /// Why nothing can be signed with it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cannot_sign: Option<String>,
    /// Whether it is a debug key.
    pub debug_key: bool,
    /// Whether it is a signing key whose certificate ends too soon for an app's whole life.
    pub short_validity: bool,
    /// Whether it was proved that its parts agree and that it signs what its certificate verifies; not so for kinds that
    /// cannot be computed with here.
    pub proved: bool,
    /// How many certificates above its own were left in the file.
    pub issuers_left: usize,
}

/// Why nothing was imported.
#[derive(Debug, Error)]
pub enum ImportError {
    /// The file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The name cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// The apps that the keys are for.
    #[error(transparent)]
    Apps(#[from] AppsError),
    /// The keystore in it.
    #[error(transparent)]
    Format(#[from] FormatError),
    /// A keystore without private keys.
    #[error("there is no private key in it, only {0}")]
    NoKeys(String),
    /// It has no such key.
    #[error(transparent)]
    NoAlias(#[from] NoAlias),
    /// It has several, and one is wanted.
    #[error("there are several keys in it: {}", .0.join(", "))]
    SeveralKeys(Vec<String>),
    /// An alias that cannot be kept.
    #[error("an alias in it is too long or has control characters: {0}")]
    ForeignAlias(String),
    /// There is nobody to ask for its password.
    #[error("there is no terminal to ask for the password of {0} on")]
    NobodyToAsk(String),
    /// There is nobody to ask for a key's own password.
    #[error("the key {0} has a password of its own, and there is no terminal to ask for it on")]
    NobodyToAskForKey(String),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Imports keys. Nothing is sealed before all of them are open.
///
/// # Errors
/// [`ImportError`]; then the cabinet is as it was.
pub fn keystore_import(ctx: &Ctx<'_>, request: Request) -> Result<KeystoreImportReport, ImportError> {
    let path = ctx.path(&request.file);
    let bytes = files::read_whole(&path, Limits::USUAL.keystore)?;
    let name = match request.name {
        Some(name) => name,
        None => name_after(&path),
    };
    check_name(&name)?;
    let apps = keystore::apps(ctx, &request.apps)?;
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    if inventory.iter().any(|item| item.name.eq_ignore_ascii_case(&name)) {
        return Err(CabinetError::NameTaken(name).into());
    }
    if ninekeys_formats::keystore::recognise(&bytes).is_none() {
        return Err(FormatError::Unknown.into());
    }
    let (store, password) = match request.password {
        Some(password) => (open(&bytes, &password, &Limits::USUAL)?, password),
        None => open_asking(ctx, &bytes, &request.file.display().to_string())?,
    };
    let own = request.key_passwords.iter().map(|(alias, _)| alias);
    if let Some(unknown) = own.into_iter().find(|alias| !store.keys.iter().any(|key| is_called(key, alias))) {
        return Err(no_alias(&store, unknown, &request.file.display().to_string()).into());
    }
    let (wanted, left) = choose(&store, &request.aliases, &request.file.display().to_string())?;
    let mut opened = Vec::new();
    for key in wanted {
        if key.alias.chars().count() > 100 || key.alias.chars().any(char::is_control) {
            let shown = key.alias.chars().take(40).collect();
            return Err(ImportError::ForeignAlias(shown));
        }
        opened.push((key.alias.clone(), unlock(ctx, key, &password, &request.key_passwords)?));
    }
    ctx.unlock(&mut cabinet)?;
    let weak_password = password::judge(&password, &[&name]).map_or(true, |strength| strength.weak);
    let names: Vec<String> = apps.iter().map(|one| one.app.clone()).collect();
    let keys =
        opened.iter().map(|(alias, key)| describe(&inventory, alias, key, request.role, &names)).collect();
    let made = Made { name: &name, role: request.role, apps: &names, password: &password, weak_password };
    put(ctx, &mut cabinet, made, opened)?;
    Ok(KeystoreImportReport {
        file: request.file.display().to_string(),
        format: store.format,
        encryption: store.encryption,
        authenticated: store.authenticated,
        open_keys: store.open_keys,
        keys,
        left,
        role: request.role,
        apps,
        weak_password,
        at: ctx.env.now,
        keystore: name,
    })
}

/// A key in a file that is used once and kept nowhere.
#[derive(Debug)]
pub struct FromFile {
    /// The keystore file.
    pub file: PathBuf,
    /// The key's alias, where there are several.
    pub alias: Option<String>,
    /// The file's password; asked for when it is not given.
    pub password: Option<SecretText>,
    /// The key's own password, by alias.
    pub key_passwords: Vec<(String, SecretText)>,
}

/// Opens the one key that is meant, and tells its alias.
pub(crate) fn open_one(ctx: &Ctx<'_>, from: &FromFile) -> Result<(String, UnlockedKey), ImportError> {
    let shown = from.file.display().to_string();
    let bytes = files::read_whole(&ctx.path(&from.file), Limits::USUAL.keystore)?;
    if ninekeys_formats::keystore::recognise(&bytes).is_none() {
        return Err(FormatError::Unknown.into());
    }
    let (store, password) = match &from.password {
        Some(password) => (open(&bytes, password, &Limits::USUAL)?, password.duplicate()),
        None => open_asking(ctx, &bytes, &shown)?,
    };
    let wanted: Vec<String> = from.alias.iter().cloned().collect();
    match choose(&store, &wanted, &shown)?.0.as_slice() {
        [one] => Ok((one.alias.clone(), unlock(ctx, one, &password, &from.key_passwords)?)),
        several => Err(ImportError::SeveralKeys(several.iter().map(|key| key.alias.clone()).collect())),
    }
}

/// Opens a keystore with a password that is asked for.
pub(crate) fn open_asking(
    ctx: &Ctx<'_>,
    bytes: &[u8],
    file: &str,
) -> Result<(OpenStore, SecretText), ImportError> {
    let tried = ask::open_asking(
        ctx.ask,
        &format!("Password of {file}"),
        "This password does not open it; once more",
        |password| open(bytes, &password, &Limits::USUAL).map(|store| (store, password)),
        |error| matches!(error, FormatError::WrongStorePassword),
    )?;
    Ok(tried.ok_or_else(|| ImportError::NobodyToAsk(file.into()))??)
}

/// A file's name without its ending, as far as it can be an item's.
pub(crate) fn name_after(path: &Path) -> String {
    let stem = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    let plain = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.') { c } else { '-' };
    let name: String = stem.chars().map(plain).take(64).collect();
    name.trim_start_matches(['-', '_', '.']).to_owned()
}

/// Aliases are compared without case.
fn is_called(key: &StoredKey, alias: &str) -> bool {
    key.alias.to_lowercase() == alias.to_lowercase()
}

fn no_alias(store: &OpenStore, alias: &str, file: &str) -> NoAlias {
    NoAlias {
        place: file.into(),
        alias: alias.into(),
        known: store.keys.iter().map(|key| key.alias.clone()).collect(),
    }
}

/// The keys that were asked for, and the aliases of those that were not.
fn choose<'a>(
    store: &'a OpenStore,
    wanted: &[String],
    file: &str,
) -> Result<(Vec<&'a StoredKey>, Vec<String>), ImportError> {
    if store.keys.is_empty() {
        let many = store.certificates.len();
        let plural = if many == 1 { "" } else { "s" };
        return Err(ImportError::NoKeys(format!("{many} certificate{plural}")));
    }
    if let Some(unknown) = wanted.iter().find(|alias| !store.keys.iter().any(|key| is_called(key, alias))) {
        return Err(no_alias(store, unknown, file).into());
    }
    let asked = |key: &&StoredKey| wanted.is_empty() || wanted.iter().any(|alias| is_called(key, alias));
    let (chosen, left): (Vec<&StoredKey>, Vec<&StoredKey>) = store.keys.iter().partition(asked);
    Ok((chosen, left.into_iter().map(|key| key.alias.clone()).collect()))
}

/// Opens a key: with the password that was given for it, else with the store's, else with one that is asked for.
pub(crate) fn unlock(
    ctx: &Ctx<'_>,
    key: &StoredKey,
    store: &SecretText,
    given: &[(String, SecretText)],
) -> Result<UnlockedKey, ImportError> {
    let own = given.iter().find(|(alias, _)| alias.to_lowercase() == key.alias.to_lowercase());
    if let Some((_, password)) = own {
        return Ok(key.unlock(password, &Limits::USUAL)?);
    }
    match key.unlock(store, &Limits::USUAL) {
        Err(FormatError::WrongKeyPassword(alias)) => {
            let tried = ask::open_asking(
                ctx.ask,
                &format!("Password of the key {alias}"),
                "This password does not open the key; once more",
                |password| key.unlock(&password, &Limits::USUAL),
                |error| matches!(error, FormatError::WrongKeyPassword(_)),
            )?;
            Ok(tried.ok_or(ImportError::NobodyToAskForKey(alias))??)
        }
        other => Ok(other?),
    }
}

fn describe(
    inventory: &Inventory,
    alias: &str,
    key: &UnlockedKey,
    role: Role,
    apps: &[String],
) -> ImportedKey {
    let fingerprint = sha256_hex(&key.certificate.public_key);
    let same = keystore::key_with(inventory, &fingerprint).map_or_else(Vec::new, |id| {
        let entries = inventory.keystores().into_iter().flat_map(|(item, facts)| {
            facts.entries.iter().filter(move |entry| entry.key == id).map(move |entry| (item, entry))
        });
        entries.map(|(item, entry)| format!("{}/{}", item.name, entry.alias)).collect()
    });
    let cannot_sign = match key.secret.lend(|der| PrivateKey::from_pkcs8(der)) {
        Ok(_) => None,
        Err(error @ (KeyError::TooShort(_) | KeyError::NoSignatures(_))) => Some(error.to_string()),
        Err(_) => Some("the provider does not take it for a key to sign with".into()),
    };
    ImportedKey {
        alias: alias.into(),
        key: KeySaid::from(&key.certificate),
        certificate: CertificateSaid::from(&key.certificate),
        others: keystore::others(inventory, apps, role, &fingerprint),
        same_as: same,
        released_otherwise: released_otherwise(inventory, apps, key),
        cannot_sign,
        debug_key: is_debug_certificate(&key.certificate.subject, &sha256_hex(&key.certificate.der)),
        short_validity: role == Role::Signing && is_short(&key.certificate),
        proved: key.proved,
        issuers_left: key.issuers.len(),
    }
}

/// What was released with this key under another certificate: devices that have it take nothing signed under this one.
fn released_otherwise(inventory: &Inventory, apps: &[String], key: &UnlockedKey) -> Vec<String> {
    let (own, certificate) = (sha256_hex(&key.certificate.public_key), sha256_hex(&key.certificate.der));
    let of_apps = |release: &&ReleaseFacts| apps.contains(&release.app);
    let otherwise = |release: &&ReleaseFacts| {
        let known = !release.signer_certificate.is_empty();
        release.signer == own && known && release.signer_certificate != certificate
    };
    let all = inventory.releases().into_iter().filter(of_apps).filter(otherwise);
    all.map(|release| release.file.clone()).collect()
}

fn is_short(certificate: &Certificate) -> bool {
    is_too_short(answers::time(certificate.not_before), answers::time(certificate.not_after))
}

/// What is put in.
struct Made<'a> {
    name: &'a str,
    role: Role,
    apps: &'a [String],
    password: &'a SecretText,
    weak_password: bool,
}

fn put(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    made: Made<'_>,
    opened: Vec<(String, UnlockedKey)>,
) -> Result<(), ImportError> {
    let Made { name, role, apps, password, weak_password } = made;
    cabinet.change(&format!("keystore import {name}"), &ctx.env, |change| {
        let mut entries = Vec::new();
        for (alias, key) in opened {
            let UnlockedKey { secret, certificate, .. } = key;
            let new = NewKey { alias: &alias, role, apps, secret, certificate: &certificate };
            entries.push(keystore::put_key(change, name, new)?);
        }
        let facts = KeystoreFacts { entries, weak_password, foreign_password: true };
        let sealed = keystore::as_bytes(password);
        change.put(NewItem::new(name, Facts::Keystore(facts), Some(sealed)))?;
        Ok(())
    })
}
