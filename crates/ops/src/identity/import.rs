//! `identity import`: identities out of a PKCS#12 file, key and chain together.

use std::path::PathBuf;

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, Change, NewItem};
use ninekeys_core::chain::Chain;
use ninekeys_core::digest::{hex, sha256_hex};
use ninekeys_core::keystore::{KeystoreError as FormatError, UnlockedKey, open};
use ninekeys_core::model::{Facts, Inventory, KeyFacts, NameError, Project, check_name};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::SecretText;
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::accept::{Fit, Outcome, Place, UnfitError};
use super::{AppsError, CertificatesError, ChainSaid, IdentitySaid};
use crate::answers::CertificateSaid;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError};
use crate::identity;
use crate::keystore;
use crate::keystore::import::{ImportError, open_asking, unlock};
use crate::project::ProjectError;

/// The file to be imported.
#[derive(Debug)]
pub struct Request {
    /// The file.
    pub file: PathBuf,
    /// What a new identity is called; after its kind and year when nothing is said.
    pub name: Option<String>,
    /// The apps that they are for.
    pub apps: Vec<String>,
    /// The file's password; asked for when it is not given.
    pub password: Option<SecretText>,
}

/// What was imported.
#[derive(Debug, Serialize, JsonSchema)]
pub struct IdentityImportReport {
    /// The file.
    pub file: String,
    /// How it was encrypted.
    pub encryption: String,
    /// The identities.
    pub imported: Vec<Imported>,
    /// Names of keys in it that are no identities, and why.
    pub left: Vec<Left>,
    /// Certificates of authorities that came in with them and were not there.
    pub authorities: Vec<CertificateSaid>,
    /// The time of this report.
    pub at: Timestamp,
}

/// One of them.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Imported {
    /// The identity.
    #[serde(flatten)]
    pub identity: IdentitySaid,
    /// What that meant for the cabinet.
    pub outcome: Outcome,
    /// Who vouches for it.
    pub chain: ChainSaid,
}

/// A key that was left in the file.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Left {
    /// What it is called there.
    pub alias: String,
    /// Why it is no identity.
    pub because: String,
}

/// Why nothing was imported.
#[derive(Debug, Error)]
pub enum IdentityImportError {
    /// A name that cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// One name for several.
    #[error("one name is for one identity, and there are {0} in the file")]
    SeveralForOneName(usize),
    /// The apps.
    #[error(transparent)]
    Apps(#[from] AppsError),
    /// The file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The archive in it, or its password.
    #[error(transparent)]
    Archive(#[from] ImportError),
    /// None of its keys is an identity.
    #[error("there is no identity in it: {}", .0.first().map_or("it has no private key", |one| one.because.as_str()))]
    NoIdentity(Vec<Left>),
    /// The project's roots.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
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

/// A file that was opened: its identities, and what is none.
struct Opened {
    encryption: String,
    fits: Vec<(Fit, UnlockedKey)>,
    left: Vec<Left>,
}

/// Imports identities. Nothing is sealed before all of them are open and proved.
///
/// # Errors
/// [`IdentityImportError`]; then the cabinet is as it was.
pub fn identity_import(
    ctx: &Ctx<'_>,
    mut request: Request,
) -> Result<IdentityImportReport, IdentityImportError> {
    request.name.as_deref().map_or(Ok(()), check_name)?;
    let file = ctx.project_if_any()?;
    let project = file.as_ref().map(|file| &file.project);
    let roots = identity::roots(file.as_ref())?;
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let mut pool = identity::authorities(&inventory);
    pool.extend(roots.iter().cloned());
    let Opened { encryption, fits, left } = read(ctx, &mut request, project, &mut pool)?;
    if fits.is_empty() {
        return Err(IdentityImportError::NoIdentity(left));
    }
    if request.name.is_some() && fits.len() > 1 {
        return Err(IdentityImportError::SeveralForOneName(fits.len()));
    }
    let is_known = |(fit, _): &(Fit, UnlockedKey)| {
        let key = fit.key(&inventory);
        key.is_some() && matches!(fit.place(&inventory, key), Place::Known(_))
    };
    let (outcomes, authorities) = if fits.iter().all(is_known) {
        (fits.iter().map(|(fit, _)| (name_of(fit, &inventory), Outcome::Known)).collect(), Vec::new())
    } else {
        ctx.unlock(&mut cabinet)?;
        put(ctx, &mut cabinet, &request, &fits)?
    };
    let inventory = cabinet.inventory()?;
    let told = fits.iter().zip(outcomes).filter_map(|((fit, _), (name, outcome)): (_, (String, Outcome))| {
        let (item, facts) = identity::find(&inventory, &name).ok()?;
        Some(Imported {
            identity: identity::said(&inventory, &item.name, facts, project),
            outcome,
            chain: identity::chain_said(&Chain::find(&fit.certificate, &pool), &roots),
        })
    });
    Ok(IdentityImportReport {
        file: request.file.display().to_string(),
        encryption,
        imported: told.collect(),
        left,
        authorities,
        at: ctx.env.now,
    })
}

/// Opens the file and proves its keys; what is above them goes into the pool.
fn read(
    ctx: &Ctx<'_>,
    request: &mut Request,
    project: Option<&Project>,
    pool: &mut Vec<Certificate>,
) -> Result<Opened, IdentityImportError> {
    let apps: Vec<String> = identity::apps(ctx, &request.apps)?.into_iter().map(|app| app.app).collect();
    let bytes = files::read_whole(&ctx.path(&request.file), Limits::USUAL.keystore)?;
    if ninekeys_formats::keystore::recognise(&bytes).is_none() {
        return Err(ImportError::Format(FormatError::Unknown).into());
    }
    let (store, password) = match request.password.take() {
        Some(password) => (open(&bytes, &password, &Limits::USUAL).map_err(ImportError::from)?, password),
        None => open_asking(ctx, &bytes, &request.file.display().to_string())?,
    };
    let mut opened = Vec::new();
    for key in &store.keys {
        opened.push((key.alias.clone(), unlock(ctx, key, &password, &[])?));
    }
    let (fits, left) = sort_out(opened, &apps, project, pool);
    Ok(Opened { encryption: store.encryption, fits, left })
}

/// Each identity's name with what it meant, and the authorities that were new.
type Put = (Vec<(String, Outcome)>, Vec<CertificateSaid>);

fn put(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    request: &Request,
    fits: &[(Fit, UnlockedKey)],
) -> Result<Put, CabinetError> {
    let what = format!("identity import {}", crate::build::check::file_name(&request.file));
    cabinet.change(&what, &ctx.env, |change| {
        let mut outcomes = Vec::new();
        let mut authorities = Vec::new();
        for (fit, key) in fits {
            authorities.extend(identity::put_authorities(change, &issuers(key))?);
            put_key(change, fit, key)?;
            outcomes.push(fit.put(change, request.name.as_deref(), None)?);
        }
        Ok((outcomes, authorities))
    })
}

/// The identities among the keys of a file; what is above them goes into the pool.
fn sort_out(
    opened: Vec<(String, UnlockedKey)>,
    apps: &[String],
    project: Option<&Project>,
    pool: &mut Vec<Certificate>,
) -> (Vec<(Fit, UnlockedKey)>, Vec<Left>) {
    opened.iter().for_each(|(_, key)| pool.extend(issuers(key)));
    let (mut fits, mut left) = (Vec::new(), Vec::new());
    for (alias, key) in opened {
        let fit = Fit::read(key.certificate.clone(), apps, project, pool);
        let fit = fit.and_then(|fit| match (fit.apps.is_empty(), identity::environment(fit.purpose)) {
            (true, Some(_)) => Err(UnfitError::NoApp(fit.certificate.subject)),
            _ => Ok(fit),
        });
        match fit {
            Ok(fit) => fits.push((fit, key)),
            Err(error) => left.push(Left { alias, because: error.to_string() }),
        }
    }
    (fits, left)
}

fn issuers(key: &UnlockedKey) -> Vec<Certificate> {
    key.issuers.iter().filter_map(|der| Certificate::parse(der, &Limits::USUAL).ok()).collect()
}

fn name_of(fit: &Fit, inventory: &Inventory) -> String {
    match fit.place(inventory, fit.key(inventory)) {
        Place::Known(id) => inventory.get(&id).map(|item| item.name.clone()).unwrap_or_default(),
        _ => String::new(),
    }
}

/// Puts a private key in, once, below a name that says whose it is.
fn put_key(change: &mut Change<'_>, fit: &Fit, key: &UnlockedKey) -> Result<(), CabinetError> {
    let inventory = change.inventory();
    let fingerprint = sha256_hex(&fit.certificate.public_key);
    if keystore::key_with(&inventory, &fingerprint).is_some() {
        return Ok(());
    }
    let short: String = fingerprint.chars().take(16).collect();
    let facts = KeyFacts {
        algorithm: fit.certificate.key.to_string(),
        public_key: hex(&fit.certificate.public_key),
        fingerprint,
    };
    let name = identity::free_name(&inventory, &format!("identity/{short}"));
    change.put(NewItem::new(name, Facts::Key(facts), Some(key.secret.duplicate())))?;
    Ok(())
}
