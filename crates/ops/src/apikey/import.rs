//! `apikey import`: the private key that makes tokens, as the portal gives it out once, or a service account's file.

use std::path::PathBuf;

use ninekeys_cabinet::CabinetError;
use ninekeys_core::digest::hex;
use ninekeys_core::keys::{KeyError, PrivateKey, Signer, to_pkcs8};
use ninekeys_core::model::{
    ApiKeyFacts, ApiRole, ApiUse, Inventory, KeyFacts, NameError, Service, check_name, check_title,
};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::secret::{Secret, SecretBytes};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;
use zeroize::Zeroizing;

use super::{ApiKeySaid, IdError, check_id};
use crate::apikey;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError};
use crate::identity::AppsError;
use crate::keystore;
use crate::project::{ProjectError, ProjectFile};

/// The most of a file with an API key.
const KEY_LIMIT: u64 = 64 << 10;
/// The most characters of an upload password.
const MOST_PASSWORD: usize = 256;

/// The key to be imported.
#[derive(Debug)]
pub struct Request {
    /// The file.
    pub file: PathBuf,
    /// What it is called.
    pub name: String,
    /// The key id, where the file does not say it.
    pub key_id: Option<String>,
    /// The issuer id, where the file does not say it.
    pub issuer: Option<String>,
    /// What it may do.
    pub role: Option<ApiRole>,
    /// What it is used for.
    pub uses: Vec<ApiUse>,
    /// The apps that it is for.
    pub apps: Vec<String>,
    /// The number by which sales reports know the account.
    pub vendor_number: Option<String>,
    /// What the portal calls an account's upload password; then the file holds that, and the issuer is the account.
    pub label: Option<String>,
}

/// What was imported.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ApiKeyImportReport {
    /// The API key.
    #[serde(flatten)]
    pub api_key: ApiKeySaid,
    /// The file that it came from, which has the private key in it still.
    pub file: String,
}

/// Why nothing was imported.
#[derive(Debug, Error)]
pub enum ApiKeyImportError {
    /// Its name.
    #[error(transparent)]
    Name(#[from] NameError),
    /// The apps.
    #[error(transparent)]
    Apps(#[from] AppsError),
    /// The file.
    #[error(transparent)]
    File(#[from] FileError),
    /// It holds no key.
    #[error("{} holds no API key: neither a private key in PEM nor a service account's JSON", .0.display())]
    NotAKey(PathBuf),
    /// It holds no password.
    #[error("{} holds no password: one line of 1 to {MOST_PASSWORD} characters", .0.display())]
    NotAPassword(PathBuf),
    /// A service account's file that lacks something.
    #[error("the service account's file {} lacks `{lacks}`", path.display())]
    Lacks {
        /// The file.
        path: PathBuf,
        /// The field.
        lacks: &'static str,
    },
    /// A key that makes no tokens.
    #[error("a {wanted} makes tokens with {needs}, and this is a key of kind {found}")]
    Kind {
        /// What it would be.
        wanted: &'static str,
        /// What that needs.
        needs: &'static str,
        /// What it is.
        found: String,
    },
    /// The key cannot be used.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// What the file does not say and nobody said.
    #[error("a store API key has a {0}, which its file does not say")]
    NotSaid(&'static str),
    /// A text that cannot be an id.
    #[error(transparent)]
    Id(#[from] IdError),
    /// It is there.
    #[error("this very key is in the cabinet already, as {0}")]
    Known(String),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// The fields of a service account's file that are of use; others are passed over.
#[derive(Deserialize)]
struct Account {
    #[serde(rename = "type")]
    kind: Option<String>,
    private_key_id: Option<String>,
    private_key: Option<Wiped>,
    client_email: Option<String>,
    token_uri: Option<String>,
}

/// A text that is wiped when it is dropped.
struct Wiped(Zeroizing<String>);

impl<'de> Deserialize<'de> for Wiped {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer).map(|text| Wiped(Zeroizing::new(text)))
    }
}

/// A key out of a file, and what the file says of it.
struct Found {
    secret: SecretBytes,
    service: Service,
    key_id: Option<String>,
    issuer: Option<String>,
    audience: Option<String>,
}

/// What is sealed, and what is public of it where it is a key.
struct Sealed {
    secret: SecretBytes,
    key: Option<KeyFacts>,
    facts: ApiKeyFacts,
}

/// Imports an API key, or an account's labelled upload password. One that was waited for under that name is what came.
///
/// # Errors
/// [`ApiKeyImportError`]; then the cabinet is as it was.
pub fn apikey_import(ctx: &Ctx<'_>, request: Request) -> Result<ApiKeyImportReport, ApiKeyImportError> {
    check_name(&request.name)?;
    request.vendor_number.as_deref().map_or(Ok(()), check_title)?;
    request.label.as_deref().map_or(Ok(()), check_title)?;
    let project = ctx.project_if_any()?;
    let apps = apps(&request, project.as_ref())?;
    let Sealed { secret, key, facts } = match &request.label {
        Some(_) => password(ctx, &request, apps)?,
        None => key_of(ctx, &request, apps)?,
    };
    let mut cabinet = ctx.open()?;
    let fingerprint = key.as_ref().map(|key| key.fingerprint.clone());
    let known =
        |inventory: &Inventory| fingerprint.as_ref().map_or(Ok(()), |own| refuse_known(inventory, own));
    known(&*cabinet.inventory()?)?;
    ctx.unlock(&mut cabinet)?;
    let name = request.name;
    let id = cabinet.change(&format!("apikey import {name}"), &ctx.env, |change| {
        known(&change.inventory())?;
        Ok::<_, ApiKeyImportError>(apikey::put(change, &name, facts, key, secret)?)
    })?;
    Ok(ApiKeyImportReport {
        api_key: apikey::told(&cabinet, &id, project.as_ref())?,
        file: request.file.display().to_string(),
    })
}

/// The key in the file, with what is said of it.
fn key_of(ctx: &Ctx<'_>, request: &Request, apps: Vec<String>) -> Result<Sealed, ApiKeyImportError> {
    let found = read(ctx, request)?;
    let key = found.secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    check_kind(found.service, &key)?;
    let key_id = request.key_id.clone().or(found.key_id).ok_or(ApiKeyImportError::NotSaid("key id"))?;
    let issuer = request.issuer.clone().or(found.issuer).ok_or(ApiKeyImportError::NotSaid("issuer id"))?;
    check_id(&key_id)?;
    check_id(&issuer)?;
    let public = KeyFacts {
        algorithm: key.public().shape().to_string(),
        public_key: hex(key.public().as_der()),
        fingerprint: key.public().fingerprint(),
    };
    let facts = facts(ctx.store.clone(), request, found.service, (key_id, issuer), found.audience, apps);
    Ok(Sealed { secret: found.secret, key: Some(public), facts })
}

/// The upload password in the file: its one line, or its first where nothing follows.
fn password(ctx: &Ctx<'_>, request: &Request, apps: Vec<String>) -> Result<Sealed, ApiKeyImportError> {
    let account = request.issuer.clone().ok_or(ApiKeyImportError::NotSaid("account"))?;
    check_id(&account)?;
    let bytes = Secret::new(files::read_whole(&ctx.path(&request.file), KEY_LIMIT)?);
    let secret = bytes.lend(|bytes| {
        let text = std::str::from_utf8(bytes).ok()?.trim_end_matches(['\r', '\n']);
        let good = (1..=MOST_PASSWORD).contains(&text.chars().count()) && !text.chars().any(char::is_control);
        good.then(|| Secret::new(text.as_bytes().to_vec()))
    });
    let secret = secret.ok_or_else(|| ApiKeyImportError::NotAPassword(request.file.clone()))?;
    Ok(Sealed {
        secret,
        key: None,
        facts: facts(ctx.store.clone(), request, Service::Store, (String::new(), account), None, apps),
    })
}

fn facts(
    store: Option<String>,
    request: &Request,
    service: Service,
    (key_id, issuer): (String, String),
    audience: Option<String>,
    apps: Vec<String>,
) -> ApiKeyFacts {
    ApiKeyFacts {
        service,
        key_id,
        issuer,
        role: request.role.map(|role| role.to_string()).unwrap_or_default(),
        uses: request.uses.clone(),
        audience,
        vendor_number: request.vendor_number.clone(),
        store,
        label: request.label.clone(),
        asked_of: None,
        key: None,
        apps,
    }
}

/// The apps that were named. A service key is for Android apps: any app of the project file will do.
fn apps(request: &Request, project: Option<&ProjectFile>) -> Result<Vec<String>, AppsError> {
    let named = request.apps.iter().map(|wanted| {
        let found = project.and_then(|file| file.project.app(wanted));
        found.map(|(name, _)| name.to_owned()).ok_or_else(|| AppsError::UnknownApp(wanted.clone()))
    });
    named.collect()
}

/// What is in the file. It is a secret whole, and is wiped.
fn read(ctx: &Ctx<'_>, request: &Request) -> Result<Found, ApiKeyImportError> {
    let bytes = Secret::new(files::read_whole(&ctx.path(&request.file), KEY_LIMIT)?);
    bytes.lend(|bytes| match bytes.trim_ascii_start().first() {
        Some(b'{') => account(bytes, &request.file),
        _ => {
            let secret = key_in(bytes).ok_or_else(|| ApiKeyImportError::NotAKey(request.file.clone()))?;
            Ok(Found { secret, service: Service::Store, key_id: None, issuer: None, audience: None })
        }
    })
}

/// The private key in a text, in PKCS#8.
fn key_in(text: &[u8]) -> Option<SecretBytes> {
    let modern = pem::blocks(text, pem::PRIVATE_KEY, &Limits::USUAL).into_iter().map(Secret::new).next();
    let older = || {
        let blocks = ["EC PRIVATE KEY", "RSA PRIVATE KEY"]
            .into_iter()
            .flat_map(|label| pem::blocks(text, label, &Limits::USUAL))
            .map(Secret::new);
        blocks.collect::<Vec<_>>().into_iter().find_map(|der| der.lend(|der| to_pkcs8(der)))
    };
    modern.or_else(older)
}

fn account(bytes: &[u8], path: &std::path::Path) -> Result<Found, ApiKeyImportError> {
    let account: Account =
        serde_json::from_slice(bytes).map_err(|_| ApiKeyImportError::NotAKey(path.to_owned()))?;
    let lacks = |lacks| ApiKeyImportError::Lacks { path: path.to_owned(), lacks };
    if account.kind.as_deref() != Some("service_account") {
        return Err(lacks("type"));
    }
    let text = account.private_key.ok_or_else(|| lacks("private_key"))?;
    Ok(Found {
        secret: key_in(text.0.as_bytes()).ok_or_else(|| lacks("private_key"))?,
        service: Service::Account,
        key_id: Some(account.private_key_id.ok_or_else(|| lacks("private_key_id"))?),
        issuer: Some(account.client_email.ok_or_else(|| lacks("client_email"))?),
        audience: account.token_uri,
    })
}

fn check_kind(service: Service, key: &PrivateKey) -> Result<(), ApiKeyImportError> {
    let found = key.public().shape().to_string();
    let (wanted, needs, good) = match service {
        Service::Store => ("store API key", "EC P-256", found == "EC P-256"),
        Service::Account => ("service key", "RSA", found.starts_with("RSA")),
    };
    if good { Ok(()) } else { Err(ApiKeyImportError::Kind { wanted, needs, found }) }
}

fn refuse_known(inventory: &Inventory, fingerprint: &str) -> Result<(), ApiKeyImportError> {
    match keystore::key_with(inventory, fingerprint).and_then(|id| inventory.get(&id)) {
        Some(item) => Err(ApiKeyImportError::Known(item.name.clone())),
        None => Ok(()),
    }
}
