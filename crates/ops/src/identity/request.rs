//! `identity request`: a key that is sealed at once, and the request for a certificate over it.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::{Cabinet, CabinetError, NewItem};
use ninekeys_core::certificate::{CertificateError, Subject};
use ninekeys_core::digest::{from_hex, hex, sha256_hex};
use ninekeys_core::keys::{Algorithm, KeyError, PrivateKey, Signer};
use ninekeys_core::model::{
    Facts, IdentityFacts, IdentityPurpose, Inventory, Item, ItemId, KeyFacts, NameError, PushEnvironment,
    check_name, check_title,
};
use ninekeys_core::request as pkcs10;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::request::{LABEL, OLD_LABEL, Request as Parsed};
use ninekeys_formats::secret::SecretBytes;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{AppsError, FindError, IdentitySaid, Kind};
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, Access, FileError, Taken};
use crate::identity;
use crate::keystore;
use crate::outgoing::Outgoing;
use crate::outputs::{self, OutputError};
use crate::project::ProjectError;

/// The most of a file with a request.
const REQUEST_LIMIT: u64 = 256 << 10;

/// The identity to be asked for.
#[derive(Debug)]
pub struct Request {
    /// Its name.
    pub name: String,
    /// What it is to be for; not needed for one that was asked for before.
    pub kind: Option<Kind>,
    /// The servers that a push identity is to reach.
    pub environment: PushEnvironment,
    /// The apps that it is for.
    pub apps: Vec<String>,
    /// Who asks; what is missing comes from the project file.
    pub subject: Subject,
    /// Kind and size of the key.
    pub algorithm: Algorithm,
    /// An identity whose key is used again.
    pub key_of: Option<String>,
    /// The file that the request is written into; after the name when nothing is said.
    pub to: Option<PathBuf>,
    /// A request that somebody else made, who keeps the key.
    pub from: Option<Foreign>,
    /// Whether a file that is there is replaced.
    pub replace: bool,
}

/// A request that somebody else made.
#[derive(Debug)]
pub struct Foreign {
    /// The file.
    pub file: PathBuf,
    /// Who keeps the key.
    pub held_by: String,
}

/// What was asked for.
#[derive(Debug, Serialize, JsonSchema)]
pub struct IdentityRequestReport {
    /// The identity.
    #[serde(flatten)]
    pub identity: IdentitySaid,
    /// The subject in the request, RFC 4514.
    pub subject: String,
    /// The file with the request; nothing where it came from somebody else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Whether it was asked for before, and the same request was written again.
    pub again: bool,
    /// Other identities of the same key.
    pub key_shared_with: Vec<String>,
}

/// Why nothing was asked for.
#[derive(Debug, Error)]
pub enum IdentityRequestError {
    /// The name cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// Nobody said what it is for.
    #[error("an identity is for development, distribution or push, and it was not said for which")]
    NoKind,
    /// A push identity is for one app.
    #[error("a push identity is for one app, and none was named")]
    NoApp,
    /// It is there, for something else.
    #[error("{name} is there already, as a {word}")]
    OtherKind {
        /// Its name.
        name: String,
        /// What it is.
        word: &'static str,
    },
    /// It is there, and not because it was asked for here.
    #[error("{0} is there already, and the request for it was not made here")]
    NoRequest(String),
    /// The apps.
    #[error(transparent)]
    Apps(#[from] AppsError),
    /// The identity whose key is used again.
    #[error(transparent)]
    Find(#[from] FindError),
    /// It has no key here.
    #[error("the private key of {0} is not here")]
    NoKey(String),
    /// A file that holds no request.
    #[error("{} holds no request for a certificate (PKCS#10, PEM or DER)", .0.display())]
    NotARequest(PathBuf),
    /// A request that its own key did not sign.
    #[error("the request in {} is not signed with the key that it is for: it was changed on the way", .0.display())]
    NotProved(PathBuf),
    /// A request for a key that is known.
    #[error("the request is for the key of {0}")]
    KnownKey(String),
    /// The subject or the request.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// The key could not be made.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The output would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// Everything is sealed, and the request could not be written.
    #[error("the key is sealed, and the request could not be written: {0}")]
    NotWritten(#[source] FileError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Asks for an identity: makes a key, seals it, and writes the request; or writes the request of an earlier call again; or
/// takes in the request of somebody who keeps the key.
///
/// # Errors
/// [`IdentityRequestError`]; then the cabinet is as it was, but for [`IdentityRequestError::NotWritten`].
pub fn identity_request(
    ctx: &Ctx<'_>,
    request: Request,
) -> Result<IdentityRequestReport, IdentityRequestError> {
    check_name(&request.name)?;
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    if let Some(item) = inventory.iter().find(|item| item.name.eq_ignore_ascii_case(&request.name)) {
        return again(ctx, &inventory, item, &request);
    }
    let kind = request.kind.ok_or(IdentityRequestError::NoKind)?;
    let apps = identity::apps(ctx, &request.apps)?;
    if kind == Kind::Push && apps.len() != 1 {
        return Err(IdentityRequestError::NoApp);
    }
    let purpose = match kind {
        Kind::Development => IdentityPurpose::Development,
        Kind::Distribution => IdentityPurpose::Distribution,
        Kind::Push => IdentityPurpose::Push(request.environment),
    };
    let facts = IdentityFacts {
        purpose,
        key: None,
        certificate: None,
        team: None,
        apps: apps.into_iter().map(|app| app.app).collect(),
        request: None,
        held_by: None,
        revoked: None,
    };
    match request.from {
        Some(foreign) => take_in(ctx, &mut cabinet, &inventory, (request.name, facts), foreign),
        None => make(ctx, &mut cabinet, &inventory, request, facts),
    }
}

/// Where the request goes.
fn target(request: &Request) -> PathBuf {
    request.to.clone().unwrap_or_else(|| PathBuf::from(format!("{}.csr", request.name)))
}

/// The request as it is written: PEM, or DER where the file's name says so.
fn encoded(der: &[u8], to: &Path) -> Vec<u8> {
    let wants_der = to.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("der"));
    match pem::encode(LABEL, der) {
        Ok(text) if !wants_der => text.into_bytes(),
        _ => der.to_vec(),
    }
}

/// Writes the request of an earlier call again: one key, and no second one.
fn again(
    ctx: &Ctx<'_>,
    inventory: &Inventory,
    item: &Item,
    request: &Request,
) -> Result<IdentityRequestReport, IdentityRequestError> {
    let Facts::Identity(facts) = &item.facts else {
        return Err(CabinetError::NameTaken(item.name.clone()).into());
    };
    let same_kind = match (request.kind, facts.purpose) {
        (None, _)
        | (Some(Kind::Development), IdentityPurpose::Development)
        | (Some(Kind::Distribution), IdentityPurpose::Distribution) => true,
        (Some(Kind::Push), IdentityPurpose::Push(environment)) => environment == request.environment,
        _ => false,
    };
    if !same_kind || request.from.is_some() || request.key_of.is_some() {
        let word = facts.purpose.nine_key().word();
        return Err(IdentityRequestError::OtherKind { name: item.name.clone(), word });
    }
    let der = facts.request.as_deref().filter(|_| facts.held_by.is_none()).and_then(from_hex);
    let der = der.ok_or_else(|| IdentityRequestError::NoRequest(item.name.clone()))?;
    let to = target(request);
    let path = ctx.path(&to);
    outputs::refuse_ours(ctx, &[&path], &[])?;
    outputs::refuse_taken(ctx, &[&path], request.replace)?;
    let taken = Taken::when_told(request.replace, ctx.env.now);
    ctx.notice_aside(Outgoing::write_whole(ctx, &path, &encoded(&der, &to), Access::Usual, taken)?);
    Ok(report(ctx, inventory, (&item.name, facts), &der, Some(&to), true)?)
}

/// What is to be said of an identity that was asked for.
fn report(
    ctx: &Ctx<'_>,
    inventory: &Inventory,
    (name, facts): (&str, &IdentityFacts),
    der: &[u8],
    to: Option<&Path>,
    again: bool,
) -> Result<IdentityRequestReport, ProjectError> {
    let project = ctx.project_if_any()?.map(|file| file.project);
    let subject = Parsed::parse(der, &Limits::USUAL).map(|parsed| parsed.subject).unwrap_or_default();
    let same = |(item, other): &(&Item, &IdentityFacts)| {
        item.name != name && facts.key.is_some() && other.key == facts.key
    };
    Ok(IdentityRequestReport {
        identity: identity::said(inventory, name, facts, project.as_ref()),
        subject,
        file: to.map(|to| to.display().to_string()),
        again,
        key_shared_with: identity::all(inventory)
            .into_iter()
            .filter(same)
            .map(|(item, _)| item.name.clone())
            .collect(),
    })
}

/// Who asks, with what the project file knows.
fn subject(ctx: &Ctx<'_>, request: &Request) -> Result<Subject, IdentityRequestError> {
    let project = ctx.project_if_any()?.map(|file| file.project);
    let email = project.as_ref().and_then(|project| project.email_for(&request.apps)).map(str::to_owned);
    let title = project.map(|project| project.title).filter(|title| !title.trim().is_empty());
    let mut subject = request.subject.clone();
    subject.email = subject.email.or(email);
    subject.common_name = subject.common_name.or(title).or_else(|| Some(request.name.clone()));
    subject.to_name()?;
    Ok(subject)
}

/// The key of an identity that is used again, as an item.
fn known_key(inventory: &Inventory, name: &str) -> Result<ItemId, IdentityRequestError> {
    let (item, facts) = identity::find(inventory, name)?;
    facts.key.ok_or_else(|| IdentityRequestError::NoKey(item.name.clone()))
}

/// Makes the key and the request; both are sealed in one change before the file is written.
fn make(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    inventory: &Inventory,
    request: Request,
    mut facts: IdentityFacts,
) -> Result<IdentityRequestReport, IdentityRequestError> {
    let to = target(&request);
    let path = ctx.path(&to);
    let subject = subject(ctx, &request)?;
    let known = request.key_of.as_deref().map(|name| known_key(inventory, name)).transpose()?;
    outputs::refuse_ours(ctx, &[&path], &[])?;
    outputs::refuse_taken(ctx, &[&path], request.replace)?;
    ctx.unlock(cabinet)?;
    let secret: SecretBytes = match known.as_ref().and_then(|id| inventory.get(id)) {
        Some(item) => cabinet.secret(item)?,
        None => ctx.env.keys.make(request.algorithm)?,
    };
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    let der = pkcs10::make(&key, &subject)?;
    facts.request = Some(hex(&der));
    let name = request.name;
    let what = format!("identity request {name}");
    let facts = cabinet.change(&what, &ctx.env, |change| {
        facts.key = Some(match known {
            Some(id) => id,
            None => {
                let new = KeyFacts {
                    algorithm: key.public().shape().to_string(),
                    public_key: hex(key.public().as_der()),
                    fingerprint: key.public().fingerprint(),
                };
                change.put(NewItem::new(format!("{name}/key"), Facts::Key(new), Some(secret)))?
            }
        });
        change.put(NewItem::new(name.as_str(), Facts::Identity(Box::new(facts.clone())), None))?;
        Ok::<_, CabinetError>(facts)
    })?;
    let taken = Taken::when_told(request.replace, ctx.env.now);
    let written = Outgoing::write_whole(ctx, &path, &encoded(&der, &to), Access::Usual, taken);
    ctx.notice_aside(written.map_err(IdentityRequestError::NotWritten)?);
    let inventory = cabinet.inventory()?;
    Ok(report(ctx, &inventory, (&name, &facts), &der, Some(&to), false)?)
}

/// Takes in the request of somebody who keeps the key.
fn take_in(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    inventory: &Inventory,
    (name, facts): (String, IdentityFacts),
    foreign: Foreign,
) -> Result<IdentityRequestReport, IdentityRequestError> {
    check_title(&foreign.held_by)?;
    let path = ctx.path(&foreign.file);
    let bytes = files::read_whole(&path, REQUEST_LIMIT)?;
    let blocks =
        || [LABEL, OLD_LABEL].into_iter().flat_map(|label| pem::blocks(&bytes, label, &Limits::USUAL));
    let der = blocks().next().unwrap_or_else(|| bytes.clone());
    let parsed = Parsed::parse(&der, &Limits::USUAL)
        .map_err(|_| IdentityRequestError::NotARequest(foreign.file.clone()))?;
    if pkcs10::holds(&parsed) != Some(true) {
        return Err(IdentityRequestError::NotProved(foreign.file));
    }
    refuse_known(inventory, &sha256_hex(&parsed.public_key))?;
    let facts = IdentityFacts { request: Some(hex(&der)), held_by: Some(foreign.held_by), ..facts };
    ctx.unlock(cabinet)?;
    let what = format!("identity request {name}, made by somebody else");
    cabinet.change(&what, &ctx.env, |change| {
        refuse_known(&change.inventory(), &sha256_hex(&parsed.public_key))?;
        change.put(NewItem::new(name.as_str(), Facts::Identity(Box::new(facts.clone())), None))?;
        Ok::<_, IdentityRequestError>(())
    })?;
    let inventory = cabinet.inventory()?;
    Ok(report(ctx, &inventory, (&name, &facts), &der, None, false)?)
}

/// Refuses a request for a key that is here, or that another request was for.
fn refuse_known(inventory: &Inventory, fingerprint: &str) -> Result<(), IdentityRequestError> {
    let asked = |(_, facts): &(&Item, &IdentityFacts)| {
        identity::asked_key(facts).is_some_and(|key| key.sha256 == fingerprint)
    };
    if let Some((item, _)) = identity::all(inventory).into_iter().find(asked) {
        return Err(IdentityRequestError::KnownKey(item.name.clone()));
    }
    match keystore::key_with(inventory, fingerprint).and_then(|id| inventory.get(&id)) {
        Some(item) => Err(IdentityRequestError::KnownKey(item.name.clone())),
        None => Ok(()),
    }
}
