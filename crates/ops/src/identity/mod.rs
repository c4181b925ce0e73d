//! What every command on identities shares: finding them, the authorities above their certificates, and how one is told
//! from another.

pub mod accept;
pub mod export;
pub mod import;
pub mod request;
pub mod revoke;

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Change, NewItem};
use ninekeys_core::chain::{Chain, End};
use ninekeys_core::digest::{from_hex, sha256_hex};
use ninekeys_core::model::{
    self, CertificateFacts, Facts, IdentityFacts, IdentityPurpose, Inventory, Item, ItemId, KeyFacts,
    NineKey, NotFound, Project, PushEnvironment, State, Wholeness,
};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::x509::Certificate;
use ninekeys_formats::{cms, pem};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::{AppSaid, CertificateSaid, KeySaid};
use crate::ctx::Ctx;
use crate::files::{self, FileError};
use crate::keystore;
use crate::project::{ProjectError, ProjectFile};

/// The most of a file with certificates.
const CERTIFICATES_LIMIT: u64 = 1 << 20;

/// What an identity can be asked for as. Push says its servers apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Runs builds on registered devices.
    Development,
    /// Signs for registered devices and for the store.
    Distribution,
    /// Sends notifications.
    Push,
}

/// Which identity, told so that no two are taken for one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct IdentitySaid {
    /// Its name.
    pub identity: String,
    /// Which of the nine it is.
    pub kind: NineKey,
    /// The servers that a push identity reaches.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub environment: Option<PushEnvironment>,
    /// The team that it was issued to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// The apps that it is for; empty for all of the team.
    pub apps: Vec<AppSaid>,
    /// Where it stands between key and certificate.
    pub state: Wholeness,
    /// Who has the private key, where it is somebody else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub held_by: Option<String>,
    /// Its key, where the cabinet has it or the request names it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<KeySaid>,
    /// Its certificate.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub certificate: Option<CertificateSaid>,
    /// The certificate's serial number, hexadecimal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub serial: Option<String>,
}

/// The path from a certificate to one that vouches for itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ChainSaid {
    /// The certificates above it, from its issuer's upwards.
    pub above: Vec<CertificateSaid>,
    /// Whether it ends with one that vouches for itself.
    pub complete: bool,
    /// Whether the project names that one; nothing where the chain does not get there, or the project names none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trusted: Option<bool>,
    /// Whose certificate is missing, RFC 4514.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lacks: Option<String>,
    /// Where the missing certificate can be had.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub addresses: Vec<String>,
}

/// Why no identity was found.
#[derive(Debug, Error)]
pub enum FindError {
    /// Nothing, or too much, goes by that name.
    #[error(transparent)]
    NotFound(#[from] NotFound),
    /// What was named is no identity.
    #[error("{name} is {found}, not an identity")]
    NotAnIdentity {
        /// Its name.
        name: String,
        /// What it is.
        found: String,
    },
}

/// Why an identity cannot be for an app.
#[derive(Debug, Error)]
pub enum AppsError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The project file has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The app has no iOS side.
    #[error("{title} has no iOS side in the project file")]
    NotIos {
        /// Its name.
        app: String,
        /// What people call it.
        title: String,
    },
}

/// Why a file gave no certificates.
#[derive(Debug, Error)]
pub enum CertificatesError {
    /// It cannot be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// There is none in it.
    #[error("{} holds no certificate: neither PEM nor DER, nor a PKCS#7 bundle", .0.display())]
    None(PathBuf),
    /// One in it is damaged.
    #[error("a certificate in {} cannot be read: {cause}", path.display())]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What was wrong.
        cause: ParseError,
    },
}

/// The identity with that name.
pub(crate) fn find<'a>(
    inventory: &'a Inventory,
    name: &str,
) -> Result<(&'a Item, &'a IdentityFacts), FindError> {
    let item = inventory.find(name)?;
    match &item.facts {
        Facts::Identity(facts) => Ok((item, facts)),
        other => Err(FindError::NotAnIdentity { name: item.name.clone(), found: other.one() }),
    }
}

/// Every identity, by name.
pub(crate) fn all(inventory: &Inventory) -> Vec<(&Item, &IdentityFacts)> {
    let identities = inventory.iter().filter_map(|item| match &item.facts {
        Facts::Identity(facts) => Some((item, facts.as_ref())),
        _ => None,
    });
    let mut out: Vec<_> = identities.collect();
    out.sort_by(|(a, _), (b, _)| a.name.cmp(&b.name));
    out
}

/// The apps that were named: name and title.
pub(crate) fn apps(ctx: &Ctx<'_>, wanted: &[String]) -> Result<Vec<AppSaid>, AppsError> {
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let project = ctx.project_file()?.project;
    let mut out: Vec<AppSaid> = Vec::new();
    for wanted in wanted {
        let (name, app) = project.app(wanted).ok_or_else(|| AppsError::UnknownApp(wanted.clone()))?;
        if app.ios.is_none() {
            return Err(AppsError::NotIos { app: name.into(), title: app.title.clone() });
        }
        if !out.iter().any(|known| known.app == name) {
            out.push(AppSaid { app: name.into(), title: app.title.clone() });
        }
    }
    Ok(out)
}

/// The names of apps with what people call them, as far as the project file knows them.
pub(crate) fn titled(names: &[String], project: Option<&Project>) -> Vec<AppSaid> {
    let title = |name: &String| {
        let known = project.and_then(|project| project.apps.get(name.as_str()));
        known.map_or_else(|| name.clone(), |app| app.title.clone())
    };
    names.iter().map(|name| AppSaid { app: name.clone(), title: title(name) }).collect()
}

/// An identity as answers say it.
pub(crate) fn said(
    inventory: &Inventory,
    name: &str,
    facts: &IdentityFacts,
    project: Option<&Project>,
) -> IdentitySaid {
    let certificate = facts.certificate.as_ref().and_then(|id| certificate_facts(inventory, id));
    let parsed = certificate.and_then(parsed);
    let asked = || asked_key(facts);
    let key = facts.key.as_ref().and_then(|id| key_facts(inventory, id)).map(KeySaid::from);
    IdentitySaid {
        identity: name.into(),
        kind: facts.purpose.nine_key(),
        environment: environment(facts.purpose),
        team: facts.team.clone(),
        apps: titled(&facts.apps, project),
        state: facts.wholeness(),
        held_by: facts.held_by.clone(),
        key: key.or_else(|| parsed.as_ref().map(KeySaid::from)).or_else(asked),
        certificate: certificate.map(CertificateSaid::from),
        serial: certificate.map(|facts| facts.serial.clone()),
    }
}

/// The key that a kept request is for.
pub(crate) fn asked_key(facts: &IdentityFacts) -> Option<KeySaid> {
    let der = from_hex(facts.request.as_ref()?)?;
    let request = ninekeys_formats::request::Request::parse(&der, &Limits::USUAL).ok()?;
    Some(KeySaid { sha256: sha256_hex(&request.public_key), algorithm: request.key.to_string() })
}

/// The servers that an identity reaches, where it is for push.
pub(crate) fn environment(purpose: IdentityPurpose) -> Option<PushEnvironment> {
    if let IdentityPurpose::Push(environment) = purpose { Some(environment) } else { None }
}

/// The facts of a key item.
pub(crate) fn key_facts<'a>(inventory: &'a Inventory, id: &ItemId) -> Option<&'a KeyFacts> {
    if let Facts::Key(facts) = &inventory.get(id)?.facts { Some(facts) } else { None }
}

/// The facts of a certificate item.
pub(crate) fn certificate_facts<'a>(inventory: &'a Inventory, id: &ItemId) -> Option<&'a CertificateFacts> {
    inventory.certificate(id)
}

/// A kept certificate, read.
pub(crate) fn parsed(facts: &CertificateFacts) -> Option<Certificate> {
    Certificate::parse(&from_hex(&facts.der)?, &Limits::USUAL).ok()
}

/// The certificates in a file: PEM or DER, one or several, or a bundle that nobody signed.
pub(crate) fn read_certificates(path: &Path) -> Result<Vec<Certificate>, CertificatesError> {
    let bytes = files::read_whole(path, CERTIFICATES_LIMIT)?;
    let all =
        certificates_in(bytes).map_err(|cause| CertificatesError::Damaged { path: path.into(), cause })?;
    if all.is_empty() { Err(CertificatesError::None(path.into())) } else { Ok(all) }
}

/// The same, out of bytes.
pub(crate) fn certificates_in(bytes: Vec<u8>) -> Result<Vec<Certificate>, ParseError> {
    let mut ders = pem::blocks(&bytes, pem::CERTIFICATE, &Limits::USUAL);
    let bundles = ["PKCS7", "CMS"].into_iter().flat_map(|label| pem::blocks(&bytes, label, &Limits::USUAL));
    for bundle in bundles {
        ders.extend(cms::bundle(&bundle, &Limits::USUAL).unwrap_or_default());
    }
    if ders.is_empty() && bytes.starts_with(&[0x30]) {
        ders = cms::bundle(&bytes, &Limits::USUAL).unwrap_or_else(|_| vec![bytes]);
    }
    ders.iter().map(|der| Certificate::parse(der, &Limits::USUAL)).collect()
}

/// The authorities that the project names: what the portal signs has to lead to one of them.
pub(crate) fn roots(project: Option<&ProjectFile>) -> Result<Vec<Certificate>, CertificatesError> {
    let Some(file) = project else { return Ok(Vec::new()) };
    let mut out = Vec::new();
    for named in &file.project.roots {
        out.extend(read_certificates(&file.resolve(named))?);
    }
    Ok(out)
}

/// Every authority's certificate in the cabinet: those of no key here.
pub(crate) fn authorities(inventory: &Inventory) -> Vec<Certificate> {
    let foreign = inventory.iter().filter_map(|item| match &item.facts {
        Facts::Certificate(facts) if facts.key.is_none() => parsed(facts),
        _ => None,
    });
    foreign.collect()
}

/// A path as answers say it.
pub(crate) fn chain_said(chain: &Chain, roots: &[Certificate]) -> ChainSaid {
    let (lacks, addresses) = match &chain.end {
        End::Lacks { issuer, addresses } => (Some(issuer.clone()), addresses.clone()),
        End::Root | End::TooLong => (None, Vec::new()),
    };
    let trusted = |root: &Certificate| roots.iter().any(|known| known.der == root.der);
    ChainSaid {
        above: chain.certificates.iter().skip(1).map(CertificateSaid::from).collect(),
        complete: chain.end == End::Root,
        trusted: chain.root().filter(|_| !roots.is_empty()).map(trusted),
        lacks,
        addresses,
    }
}

/// Puts a certificate in, or finds the item that is there. A certificate whose key was not here and is now gets to know
/// it.
pub(crate) fn put_certificate(
    change: &mut Change<'_>,
    name: String,
    certificate: &Certificate,
    key: Option<ItemId>,
) -> Result<ItemId, CabinetError> {
    let fingerprint = sha256_hex(&certificate.der);
    let inventory = change.inventory();
    let Some(known) = certificate_with(&inventory, &fingerprint) else {
        let facts = keystore::certificate_facts(certificate, key);
        return change.put(NewItem::new(name, Facts::Certificate(Box::new(facts)), None));
    };
    if let Facts::Certificate(facts) = &known.facts
        && facts.key.is_none()
        && key.is_some()
    {
        let mut item = known.clone();
        item.facts = Facts::Certificate(Box::new(CertificateFacts { key, ..(**facts).clone() }));
        change.revise(&item, None)?;
    }
    Ok(known.id)
}

/// The certificate item with that fingerprint.
pub(crate) fn certificate_with<'a>(inventory: &'a Inventory, fingerprint: &str) -> Option<&'a Item> {
    inventory.iter().find(|item| matches!(&item.facts, Facts::Certificate(c) if c.fingerprint == fingerprint))
}

/// Puts the certificates of authorities in that are not there yet, and tells which those are.
pub(crate) fn put_authorities(
    change: &mut Change<'_>,
    certificates: &[Certificate],
) -> Result<Vec<CertificateSaid>, CabinetError> {
    let mut new = Vec::new();
    for certificate in certificates {
        let fingerprint = sha256_hex(&certificate.der);
        if certificate_with(&change.inventory(), &fingerprint).is_none() {
            let short: String = fingerprint.chars().take(16).collect();
            put_certificate(change, format!("authority/{short}"), certificate, None)?;
            new.push(CertificateSaid::from(certificate));
        }
    }
    Ok(new)
}

/// Writes down that an identity's certificate was revoked: nothing is signed with it any more, and it is kept.
pub(crate) fn note_revoked(change: &mut Change<'_>, id: &ItemId, at: Timestamp) -> Result<(), CabinetError> {
    let gone = || CabinetError::Tampered(format!("the identity {id} is gone"));
    let mut item = change.inventory().get(id).cloned().ok_or_else(gone)?;
    if let Facts::Identity(facts) = &mut item.facts {
        facts.revoked = Some(at);
    }
    item.state = State::Retired;
    change.revise(&item, None)
}

/// A name that no item has yet.
pub(crate) fn free_name(inventory: &Inventory, base: &str) -> String {
    model::free_name(base, |name| inventory.iter().any(|item| item.name.eq_ignore_ascii_case(name)))
}

/// The year in which something ends, for a name that tells it from its successor.
pub(crate) fn year(until: Timestamp) -> String {
    until.strftime("%Y").to_string()
}
