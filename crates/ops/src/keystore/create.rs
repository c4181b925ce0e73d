//! `keystore create` and `keystore add-key`: a new key, in a new keystore or in one that is there.

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Change, NewItem};
use ninekeys_core::certificate::{CertificateError, LEAST_YEARS_FOR_SIGNING, Subject, self_signed};
use ninekeys_core::digest::hex;
use ninekeys_core::keys::{Algorithm, KeyError, PrivateKey, Signer};
use ninekeys_core::model::{
    Facts, Inventory, KeystoreEntry, KeystoreFacts, NameError, Role, check_name, free_name,
};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::SecretBytes;
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::{AppSaid, CertificateSaid, KeySaid};
use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::keystore::{
    self, AliasError, AliasTaken, AppsError, FindError, NewKey, NewPassword, OtherKey, PasswordChoiceError,
};
use crate::project::ProjectError;

/// The key to be made.
#[derive(Debug)]
pub struct KeyRequest {
    /// The apps that it is for.
    pub apps: Vec<String>,
    /// Signing or upload.
    pub role: Role,
    /// The key's name in exported keystores; when nothing is said the keystore's name, and for a further key its name and kind.
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
#[derive(Debug, Serialize, JsonSchema)]
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
#[derive(Debug, Serialize, JsonSchema)]
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
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeystoreAddKeyReport {
    /// The key.
    #[serde(flatten)]
    pub made: KeyMade,
    /// How many keys the keystore has now.
    pub keys: usize,
}

/// Why no key can be made as it was asked for.
#[derive(Debug, Error)]
pub enum MakeError {
    /// Its alias.
    #[error(transparent)]
    Alias(#[from] AliasError),
    /// The apps that it is for.
    #[error(transparent)]
    Apps(#[from] AppsError),
    /// The validity would end too soon.
    #[error(
        "a signing key of {years} years is too short: an app can be updated only while it is valid, \
         and stores ask for {LEAST_YEARS_FOR_SIGNING}"
    )]
    TooShort {
        /// What was asked for.
        years: u16,
    },
    /// A validity of nothing.
    #[error("a certificate has to be valid for at least a year")]
    NoYears,
    /// The certificate.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// The key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// Our own certificate could not be read back.
    #[error("the new certificate cannot be read back: {0}")]
    Unreadable(#[from] ParseError),
}

/// Asks a person for what a key lacks, and shows all of it before it is made. Asks nobody where nothing is missing.
fn complete(ctx: &Ctx<'_>, keystore: &str, key: &mut KeyRequest) -> Result<(), CompleteError> {
    if key.subject != Subject::default() {
        return Ok(());
    }
    let apps = ctx.project_if_any()?.map(|file| file.project.apps).unwrap_or_default();
    let known: Vec<&str> =
        apps.iter().filter(|(_, app)| app.android.is_some()).map(|(name, _)| name.as_str()).collect();
    if key.apps.is_empty() && !known.is_empty() {
        let judge = |answer: &str| {
            let unknown = words(answer).find(|word| !known.contains(word));
            unknown.map_or(Ok(()), |word| Err(format!("{word} is not one of them: {}", known.join(", "))))
        };
        let usual = if let [only] = known.as_slice() { only } else { "" };
        let question = format!("For which apps ({}; empty for none yet)", known.join(", "));
        let Some(answer) = ctx.ask.answer(&question, Some(usual), &judge)? else { return Ok(()) };
        key.apps = words(&answer).map(str::to_owned).collect();
    }
    let fields: [(&str, &mut Option<String>); 4] = [
        ("Who is it for, as the certificate says it (common name)", &mut key.subject.common_name),
        ("Part of the organisation (may stay empty)", &mut key.subject.unit),
        ("Organisation (may stay empty)", &mut key.subject.organisation),
        ("Country, two letters (may stay empty)", &mut key.subject.country),
    ];
    for (at, (question, field)) in fields.into_iter().enumerate() {
        let judge = |answer: &str| match (at, answer) {
            (0, "") => Err("a certificate needs at least that".to_owned()),
            (_, "") => Ok(()),
            (3, country) => judge_subject(Subject { country: Some(country.into()), ..Subject::default() }),
            (_, text) => judge_subject(Subject { common_name: Some(text.into()), ..Subject::default() }),
        };
        let Some(answer) = ctx.ask.answer(question, None, &judge)? else { return Ok(()) };
        *field = Some(answer).filter(|answer| !answer.is_empty());
    }
    let apps = if key.apps.is_empty() { "no app yet".to_owned() } else { key.apps.join(", ") };
    let word = key.role.nine_key().word();
    ctx.ask.tell(&format!(
        "{keystore}: a {word} for {apps}, {}, valid for {} years, {}",
        key.algorithm, key.years, key.subject
    ));
    match ctx.ask.sure("Make it")? {
        Some(false) => Err(AskError::Declined.into()),
        Some(true) | None => Ok(()),
    }
}

fn judge_subject(subject: Subject) -> Result<(), String> {
    subject.to_name().map(|_| ()).map_err(|error| error.to_string())
}

fn words(answer: &str) -> impl Iterator<Item = &str> {
    answer.split([',', ' ']).map(str::trim).filter(|word| !word.is_empty())
}

/// Why what is missing could not be asked for.
#[derive(Debug, Error)]
pub enum CompleteError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
}

/// Why no keystore was made.
#[derive(Debug, Error)]
pub enum CreateError {
    /// The name cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// What was missing.
    #[error(transparent)]
    Complete(#[from] CompleteError),
    /// Its key.
    #[error(transparent)]
    Make(#[from] MakeError),
    /// Its password.
    #[error(transparent)]
    Password(#[from] PasswordChoiceError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Why no key was added.
#[derive(Debug, Error)]
pub enum AddKeyError {
    /// The keystore.
    #[error(transparent)]
    Find(#[from] FindError),
    /// What was missing.
    #[error(transparent)]
    Complete(#[from] CompleteError),
    /// The key.
    #[error(transparent)]
    Make(#[from] MakeError),
    /// Its alias is another's.
    #[error(transparent)]
    AliasTaken(#[from] AliasTaken),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Makes the key, its certificate and the keystore in one change. The cabinet is unlocked first, so that a
/// wrong passphrase is said at once; the key is made outside of the change, so that others need not wait.
///
/// # Errors
/// [`CreateError`]; then the cabinet is as it was.
pub fn keystore_create(ctx: &Ctx<'_>, request: Request) -> Result<KeystoreCreateReport, CreateError> {
    let Request { name, mut key, password } = request;
    check_name(&name)?;
    complete(ctx, &name, &mut key)?;
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
    let new = make(ctx, &key, &name, &alias, apps, cabinet.inventory()?.as_ref())?;
    let what = format!("keystore create {name}");
    let made = cabinet.change(&what, &ctx.env, |change| {
        let (entry, made) = new.put(change, &name)?;
        let facts = KeystoreFacts { entries: vec![entry], weak_password, foreign_password: false };
        let sealed: SecretBytes = keystore::as_bytes(&password);
        change.put(NewItem::new(name.as_str(), Facts::Keystore(facts), Some(sealed)))?;
        Ok::<_, CabinetError>(made)
    })?;
    Ok(KeystoreCreateReport { made, generated_password, weak_password })
}

/// Makes another key in a keystore.
///
/// # Errors
/// [`AddKeyError`]; then the cabinet is as it was.
pub fn keystore_add_key(
    ctx: &Ctx<'_>,
    keystore: &str,
    mut key: KeyRequest,
) -> Result<KeystoreAddKeyReport, AddKeyError> {
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, facts) = keystore::find(&inventory, keystore)?;
    let name = item.name.clone();
    complete(ctx, &name, &mut key)?;
    let alias = key.alias.clone().unwrap_or_else(|| free_alias(&name, key.role, facts));
    let apps = refuse(ctx, &key, &alias)?;
    refuse_taken(&name, facts, &alias)?;
    ctx.unlock(&mut cabinet)?;
    let new = make(ctx, &key, &name, &alias, apps, &inventory)?;
    let what = format!("keystore add-key {name} {alias}");
    let (made, keys) = cabinet.change(&what, &ctx.env, |change| {
        let (entry, made) = new.put(change, &name)?;
        // read again under the lock: another process may have added a key meanwhile
        let inventory = change.inventory();
        let (item, facts) = keystore::find(&inventory, &name)?;
        refuse_taken(&item.name, facts, &alias)?;
        let mut facts = facts.clone();
        facts.entries.push(entry);
        let keys = facts.entries.len();
        let mut item = item.clone();
        item.facts = Facts::Keystore(facts);
        change.revise(&item, None)?;
        Ok::<_, AddKeyError>((made, keys))
    })?;
    Ok(KeystoreAddKeyReport { made, keys })
}

fn refuse_taken(place: &str, facts: &KeystoreFacts, alias: &str) -> Result<(), AliasTaken> {
    match facts.entries.iter().any(|known| known.alias.eq_ignore_ascii_case(alias)) {
        true => Err(AliasTaken { place: place.into(), alias: alias.into() }),
        false => Ok(()),
    }
}

/// An alias for another key, when none was named: the keystore's name is the first key's.
fn free_alias(keystore: &str, role: Role, facts: &KeystoreFacts) -> String {
    let word = match role {
        Role::Signing => "signing",
        Role::Upload => "upload",
    };
    let taken = |alias: &str| facts.entries.iter().any(|entry| entry.alias.eq_ignore_ascii_case(alias));
    free_name(&format!("{keystore}-{word}"), taken)
}

fn refuse(ctx: &Ctx<'_>, request: &KeyRequest, alias: &str) -> Result<Vec<AppSaid>, MakeError> {
    keystore::check_alias(alias)?;
    if request.years == 0 {
        return Err(MakeError::NoYears);
    }
    if request.role == Role::Signing && request.years < LEAST_YEARS_FOR_SIGNING && !request.insist {
        return Err(MakeError::TooShort { years: request.years });
    }
    request.subject.to_name()?;
    Ok(keystore::apps(ctx, &request.apps)?)
}

/// A key that was made, and is not in the cabinet yet.
struct Fresh {
    secret: SecretBytes,
    certificate: Certificate,
    made: KeyMade,
}

impl Fresh {
    /// Puts key and certificate in, below a keystore's name.
    fn put(self, change: &mut Change<'_>, keystore: &str) -> Result<(KeystoreEntry, KeyMade), CabinetError> {
        let Fresh { secret, certificate, made } = self;
        let apps: Vec<String> = made.apps.iter().map(|one| one.app.clone()).collect();
        let new =
            NewKey { alias: &made.alias, role: made.role, apps: &apps, secret, certificate: &certificate };
        Ok((keystore::put_key(change, keystore, new)?, made))
    }
}

fn make(
    ctx: &Ctx<'_>,
    request: &KeyRequest,
    keystore: &str,
    alias: &str,
    apps: Vec<AppSaid>,
    inventory: &Inventory,
) -> Result<Fresh, MakeError> {
    let secret = ctx.env.keys.make(request.algorithm)?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    let certificate = self_signed(&key, &request.subject, request.years, &ctx.env)?;
    let certificate = Certificate::parse(&certificate, &Limits::USUAL)?;
    let names: Vec<String> = apps.iter().map(|one| one.app.clone()).collect();
    let made = KeyMade {
        keystore: keystore.into(),
        alias: alias.into(),
        role: request.role,
        key: KeySaid::from(&certificate),
        certificate: CertificateSaid::from(&certificate),
        serial: hex(&certificate.serial),
        at: ctx.env.now,
        others: keystore::others(inventory, &names, request.role, &key.public().fingerprint()),
        apps,
    };
    Ok(Fresh { secret, certificate, made })
}
