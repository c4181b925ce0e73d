//! `keystore create`: a keystore with its first key.

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, NewItem};
use ninekeys_core::certificate::{
    CertificateError, LEAST_YEARS_FOR_SIGNING, Subject, end_of_validity, self_signed,
};
use ninekeys_core::digest::{hex, sha256_hex};
use ninekeys_core::keys::{Algorithm, KeyError, PrivateKey, Signer};
use ninekeys_core::model::{
    CertificateFacts, Facts, KeyFacts, KeystoreEntry, KeystoreFacts, NameError, Role, check_name,
};
use ninekeys_core::password::{self, PasswordError};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};
use ninekeys_formats::x509::Certificate;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{AskError, Ctx, OpenError};
use crate::project::ProjectError;

/// Where a keystore's password comes from.
#[derive(Debug)]
pub enum NewPassword {
    /// The tool makes it up.
    Generated,
    /// A file, a descriptor or the environment gave it.
    Given(SecretText),
    /// A person is asked.
    Asked,
}

/// The keystore to be made.
#[derive(Debug)]
pub struct Request {
    /// Its name.
    pub name: String,
    /// The app that its key is for.
    pub app: Option<String>,
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
    /// Where the password comes from.
    pub password: NewPassword,
}

/// What was made.
#[derive(Debug, Serialize)]
pub struct KeystoreCreateReport {
    /// The keystore's name.
    pub name: String,
    /// The key's alias.
    pub alias: String,
    /// Signing or upload.
    pub role: Role,
    /// Kind and size.
    pub algorithm: String,
    /// The subject, RFC 4514.
    pub subject: String,
    /// The serial number, hexadecimal.
    pub serial: String,
    /// When the certificate ends.
    pub not_after: Timestamp,
    /// The time of this report.
    pub now: Timestamp,
    /// SHA-256 of the public key.
    pub key_fingerprint: String,
    /// SHA-256 of the certificate.
    pub certificate_fingerprint: String,
    /// The app it is for: its name and title.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub app: Option<(String, String)>,
    /// Keystores that already hold a key of this kind for the app.
    pub others: Vec<String>,
    /// Whether the password was made up.
    pub generated_password: bool,
    /// Whether a chosen password is easy to guess.
    pub weak_password: bool,
    /// Whether a backup of the cabinet has been made since.
    pub backed_up: bool,
}

/// Why it was not made.
#[derive(Debug, Error)]
pub enum KeystoreCreateError {
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The name cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// The project file has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The app has no Android side.
    #[error("{0} has no Android side in the project file")]
    NotAndroid(String),
    /// An alias that not every reader takes.
    #[error("`{0}` cannot be an alias: 1 to 64 printable ASCII characters")]
    Alias(String),
    /// The validity would end too soon.
    #[error(
        "{years} years are too short for a signing key: an app can be updated only while it is valid, \
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
    /// The password.
    #[error(transparent)]
    Password(#[from] PasswordError),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// There is nobody to ask for a password.
    #[error("there is no terminal to ask for the password on")]
    NobodyToAsk,
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Makes the key, its certificate and the keystore in one change. The cabinet is unlocked first, so that a
/// wrong passphrase is said at once; the key is made outside of the change, so that others need not wait.
///
/// # Errors
/// [`KeystoreCreateError`]; then the cabinet is as it was.
pub fn keystore_create(ctx: &Ctx<'_>, request: Request) -> Result<KeystoreCreateReport, KeystoreCreateError> {
    let alias = request.alias.clone().unwrap_or_else(|| request.name.clone());
    refuse(&request, &alias)?;
    let app = app(ctx, &request)?;
    let mut cabinet = ctx.open()?;
    if cabinet.inventory()?.iter().any(|item| item.name.eq_ignore_ascii_case(&request.name)) {
        return Err(CabinetError::NameTaken(request.name).into());
    }
    ctx.unlock(&mut cabinet)?;
    let generated_password = matches!(request.password, NewPassword::Generated);
    let known = [request.name.as_str(), alias.as_str()];
    let (password, weak_password) = choose_password(ctx, request.password, &known)?;

    let secret = ctx.env.keys.make(request.algorithm)?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    let certificate = self_signed(&key, &request.subject, request.years, &ctx.env)?;
    let certificate = Certificate::parse(&certificate, &Limits::USUAL)?;
    let made = Made { key: &key, certificate: &certificate, secret, password, weak_password };
    let app_name = app.as_ref().map(|(name, _)| name.as_str());
    let others = put(ctx, &mut cabinet, &request.name, &alias, request.role, app_name, made)?;
    Ok(KeystoreCreateReport {
        name: request.name,
        alias,
        role: request.role,
        algorithm: certificate.key.to_string(),
        subject: certificate.subject.clone(),
        serial: hex(&certificate.serial),
        not_after: end_of_validity(ctx.env.now, request.years)?,
        now: ctx.env.now,
        key_fingerprint: key.public().fingerprint(),
        certificate_fingerprint: sha256_hex(&certificate.der),
        app,
        others,
        generated_password,
        weak_password,
        backed_up: false,
    })
}

fn refuse(request: &Request, alias: &str) -> Result<(), KeystoreCreateError> {
    check_name(&request.name)?;
    let printable = alias.bytes().all(|byte| (0x20..0x7f).contains(&byte));
    if !(1..=64).contains(&alias.len()) || !printable {
        return Err(KeystoreCreateError::Alias(alias.into()));
    }
    if request.years == 0 {
        return Err(KeystoreCreateError::NoYears);
    }
    if request.role == Role::Signing && request.years < LEAST_YEARS_FOR_SIGNING && !request.insist {
        return Err(KeystoreCreateError::TooShort { years: request.years });
    }
    request.subject.to_name()?;
    Ok(())
}

/// The app's name and title.
fn app(ctx: &Ctx<'_>, request: &Request) -> Result<Option<(String, String)>, KeystoreCreateError> {
    let Some(wanted) = &request.app else { return Ok(None) };
    let project = ctx.project_file()?.project;
    let found = project.app(wanted).ok_or_else(|| KeystoreCreateError::UnknownApp(wanted.clone()))?;
    let (name, app) = found;
    if app.android.is_none() {
        return Err(KeystoreCreateError::NotAndroid(app.title.clone()));
    }
    Ok(Some((name.into(), app.title.clone())))
}

fn choose_password(
    ctx: &Ctx<'_>,
    from: NewPassword,
    known: &[&str],
) -> Result<(SecretText, bool), KeystoreCreateError> {
    let chosen = match from {
        NewPassword::Generated => return Ok((password::generate(&ctx.env)?, false)),
        NewPassword::Given(given) => given,
        NewPassword::Asked => {
            let asked = ctx.ask.new_secret("Password for the keystore")?;
            asked.ok_or(KeystoreCreateError::NobodyToAsk)?
        }
    };
    let strength = password::judge(&chosen, known)?;
    Ok((chosen, strength.weak))
}

/// What goes into the cabinet.
struct Made<'a> {
    key: &'a PrivateKey,
    certificate: &'a Certificate,
    secret: SecretBytes,
    password: SecretText,
    weak_password: bool,
}

/// Puts key, certificate and keystore in, and tells which keystores have such a key for the app already.
fn put(
    ctx: &Ctx<'_>,
    cabinet: &mut ninekeys_cabinet::Cabinet,
    name: &str,
    alias: &str,
    role: Role,
    app: Option<&str>,
    made: Made<'_>,
) -> Result<Vec<String>, KeystoreCreateError> {
    let public = made.key.public();
    let key = KeyFacts {
        algorithm: public.shape().to_string(),
        public_key: hex(public.as_der()),
        fingerprint: public.fingerprint(),
    };
    let password = made.password.lend(|text| Secret::new(text.clone().into_bytes()));
    cabinet.change(&format!("keystore create {name}"), &ctx.env, |change| {
        let inventory = change.inventory()?;
        let same = |(_, entry): &(_, &KeystoreEntry)| entry.role == role;
        let others = app
            .map(|app| inventory.android_keys(app).filter(same).map(|(item, _)| item.name.clone()).collect());
        let key = change.put(NewItem::new(format!("{name}/{alias}"), Facts::Key(key), Some(made.secret)))?;
        let facts = certificate_facts(made.certificate, &key);
        let certificate = change.put(NewItem::new(
            format!("{name}/{alias}/certificate"),
            Facts::Certificate(facts),
            None,
        ))?;
        let apps = app.map(str::to_owned).into_iter().collect();
        let entry = KeystoreEntry { alias: alias.into(), role, key, certificate, apps };
        let facts = KeystoreFacts { entries: vec![entry], weak_password: made.weak_password };
        change.put(NewItem::new(name, Facts::Keystore(facts), Some(password)))?;
        Ok(others.unwrap_or_default())
    })
}

fn certificate_facts(certificate: &Certificate, key: &ninekeys_core::model::ItemId) -> CertificateFacts {
    let time = |seconds| Timestamp::from_second(seconds).unwrap_or(Timestamp::MAX);
    CertificateFacts {
        key: *key,
        der: hex(&certificate.der),
        fingerprint: sha256_hex(&certificate.der),
        subject: certificate.subject.clone(),
        issuer: certificate.issuer.clone(),
        serial: hex(&certificate.serial),
        not_before: time(certificate.not_before),
        not_after: time(certificate.not_after),
    }
}
