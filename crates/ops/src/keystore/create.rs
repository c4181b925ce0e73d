//! `keystore create` and `keystore add-key`: a new key, in a new keystore or in one that is there.

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, NewItem};
use ninekeys_core::certificate::{LEAST_YEARS_FOR_SIGNING, Subject, self_signed};
use ninekeys_core::digest::hex;
use ninekeys_core::keys::{Algorithm, PrivateKey, Signer};
use ninekeys_core::model::{Facts, KeystoreFacts, Role, check_name};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::{SecretBytes, SecretText};
use ninekeys_formats::x509::Certificate;
use serde::Serialize;

use crate::answers::{AppSaid, CertificateSaid, KeySaid};
use crate::ctx::Ctx;
use crate::keystore::{self, KeystoreError, NewKey, NewPassword, OtherKey};

/// The key to be made.
#[derive(Debug)]
pub struct KeyRequest {
    /// The apps that it is for.
    pub apps: Vec<String>,
    /// Signing or upload.
    pub role: Role,
    /// The key's name in exported keystores; the keystore's name when nothing is said.
    pub alias: Option<String>,
    /// Kind and size of the key.
    pub algorithm: Algorithm,
    /// Who it is for.
    pub subject: Subject,
    /// How long it is valid.
    pub years: u16,
    /// Whether a validity that is too short is taken all the same.
    pub insist: bool,
}

/// The keystore to be made.
#[derive(Debug)]
pub struct Request {
    /// Its name.
    pub name: String,
    /// Its first key.
    pub key: KeyRequest,
    /// Where the password comes from.
    pub password: NewPassword,
}

/// What was made.
#[derive(Debug, Serialize)]
pub struct KeyMade {
    /// The keystore's name.
    pub keystore: String,
    /// The key's alias.
    pub alias: String,
    /// Signing or upload.
    pub role: Role,
    /// The key.
    pub key: KeySaid,
    /// Its certificate.
    pub certificate: CertificateSaid,
    /// The certificate's serial number, hexadecimal.
    pub serial: String,
    /// The time of this report.
    pub at: Timestamp,
    /// The apps it is for.
    pub apps: Vec<AppSaid>,
    /// Keys of this kind that the apps have already.
    pub others: Vec<OtherKey>,
}

/// A keystore that was made.
#[derive(Debug, Serialize)]
pub struct KeystoreCreateReport {
    /// Its first key.
    #[serde(flatten)]
    pub made: KeyMade,
    /// Whether the password was made up.
    pub generated_password: bool,
    /// Whether a chosen password is easy to guess.
    pub weak_password: bool,
}

/// A key that was added.
#[derive(Debug, Serialize)]
pub struct KeystoreAddKeyReport {
    /// The key.
    #[serde(flatten)]
    pub made: KeyMade,
    /// How many keys the keystore has now.
    pub keys: usize,
}

/// Makes the key, its certificate and the keystore in one change. The cabinet is unlocked first, so that a
/// wrong passphrase is said at once; the key is made outside of the change, so that others need not wait.
///
/// # Errors
/// [`KeystoreError`]; then the cabinet is as it was.
pub fn keystore_create(ctx: &Ctx<'_>, request: Request) -> Result<KeystoreCreateReport, KeystoreError> {
    let Request { name, key, password } = request;
    check_name(&name)?;
    let alias = key.alias.clone().unwrap_or_else(|| name.clone());
    let apps = refuse(ctx, &key, &alias)?;
    let mut cabinet = ctx.open()?;
    if cabinet.inventory()?.iter().any(|item| item.name.eq_ignore_ascii_case(&name)) {
        return Err(CabinetError::NameTaken(name).into());
    }
    ctx.unlock(&mut cabinet)?;
    let generated_password = matches!(password, NewPassword::Generated);
    let known = [name.as_str(), alias.as_str()];
    let (password, weak_password) = keystore::choose_password(ctx, password, &known)?;
    let place = Place::New { password, weak_password };
    let (made, _) = make(ctx, &mut cabinet, &name, &alias, apps, &key, place)?;
    Ok(KeystoreCreateReport { made, generated_password, weak_password })
}

/// Makes another key in a keystore.
///
/// # Errors
/// [`KeystoreError`]; then the cabinet is as it was.
pub fn keystore_add_key(
    ctx: &Ctx<'_>,
    keystore: &str,
    key: &KeyRequest,
) -> Result<KeystoreAddKeyReport, KeystoreError> {
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, facts) = keystore::find(&inventory, keystore)?;
    let alias = key.alias.clone().unwrap_or_else(|| item.name.clone());
    let apps = refuse(ctx, key, &alias)?;
    if facts.entries.iter().any(|entry| entry.alias.eq_ignore_ascii_case(&alias)) {
        return Err(KeystoreError::AliasTaken { place: item.name.clone(), alias });
    }
    ctx.unlock(&mut cabinet)?;
    let (made, keys) = make(ctx, &mut cabinet, &item.name, &alias, apps, key, Place::There)?;
    Ok(KeystoreAddKeyReport { made, keys })
}

/// Where a new key goes.
enum Place {
    New { password: SecretText, weak_password: bool },
    There,
}

fn refuse(ctx: &Ctx<'_>, request: &KeyRequest, alias: &str) -> Result<Vec<AppSaid>, KeystoreError> {
    keystore::check_alias(alias)?;
    if request.years == 0 {
        return Err(KeystoreError::NoYears);
    }
    if request.role == Role::Signing && request.years < LEAST_YEARS_FOR_SIGNING && !request.insist {
        return Err(KeystoreError::TooShort { years: request.years });
    }
    request.subject.to_name()?;
    keystore::apps(ctx, &request.apps)
}

fn make(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    name: &str,
    alias: &str,
    apps: Vec<AppSaid>,
    request: &KeyRequest,
    place: Place,
) -> Result<(KeyMade, usize), KeystoreError> {
    let secret = ctx.env.keys.make(request.algorithm)?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    let certificate = self_signed(&key, &request.subject, request.years, &ctx.env)?;
    let certificate = Certificate::parse(&certificate, &Limits::USUAL)?;
    let fingerprint = key.public().fingerprint();
    let names: Vec<String> = apps.iter().map(|one| one.app.clone()).collect();
    let new = NewKey { alias, role: request.role, apps: &names, secret, certificate: &certificate };
    let others = keystore::others(cabinet.inventory()?.as_ref(), &names, request.role, &fingerprint);
    let keys = put(ctx, cabinet, name, new, place)?;
    let made = KeyMade {
        keystore: name.into(),
        alias: alias.into(),
        role: request.role,
        key: KeySaid::from(&certificate),
        certificate: CertificateSaid::from(&certificate),
        serial: hex(&certificate.serial),
        at: ctx.env.now,
        apps,
        others,
    };
    Ok((made, keys))
}

/// Puts key, certificate and keystore in, or the key into the keystore that is there; tells how many keys it has.
fn put(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    name: &str,
    new: NewKey<'_>,
    place: Place,
) -> Result<usize, KeystoreError> {
    let what = match place {
        Place::New { .. } => format!("keystore create {name}"),
        Place::There => format!("keystore add-key {name} {}", new.alias),
    };
    cabinet.change(&what, &ctx.env, |change| {
        let entry = keystore::put_key(change, name, new)?;
        match place {
            Place::New { password, weak_password } => {
                let facts = KeystoreFacts { entries: vec![entry], weak_password, foreign_password: false };
                let sealed: SecretBytes = keystore::as_bytes(&password);
                change.put(NewItem::new(name, Facts::Keystore(facts), Some(sealed)))?;
                Ok(1)
            }
            Place::There => {
                // read again under the lock: another process may have added a key meanwhile
                let inventory = change.inventory();
                let (item, facts) = keystore::find(&inventory, name)?;
                if facts.entries.iter().any(|known| known.alias.eq_ignore_ascii_case(&entry.alias)) {
                    return Err(KeystoreError::AliasTaken { place: item.name.clone(), alias: entry.alias });
                }
                let mut facts = facts.clone();
                facts.entries.push(entry);
                let keys = facts.entries.len();
                let mut item = item.clone();
                item.facts = Facts::Keystore(facts);
                change.revise(&item, None)?;
                Ok(keys)
            }
        }
    })
}
