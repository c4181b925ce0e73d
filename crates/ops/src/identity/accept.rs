//! `identity accept`: issued certificates, each joined to the private key that it is for.

use std::path::PathBuf;

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Change, NewItem};
use ninekeys_core::chain::{Chain, End, is_authority, signed_by};
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::ios::certificate::{self as marks, Says};
use ninekeys_core::model::{
    Facts, IdentityFacts, IdentityPurpose, Inventory, Item, ItemId, NameError, Platform, Project, State,
    check_name, check_title,
};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::fetch::Fetcher;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{AppsError, CertificatesError, ChainSaid, IdentitySaid};
use crate::answers::CertificateSaid;
use crate::ctx::{Ctx, OpenError};
use crate::identity;
use crate::keystore;
use crate::portal;
use crate::project::{ProjectError, ProjectFile};

/// The most addresses that are asked for certificates above.
const MOST_FETCHED: usize = 4;

/// The certificates to be accepted.
#[derive(Debug)]
pub struct Request {
    /// The files.
    pub files: Vec<PathBuf>,
    /// Files with the certificates above them.
    pub chain: Vec<PathBuf>,
    /// What a new identity is called; after its kind and year when nothing is said.
    pub name: Option<String>,
    /// The apps that they are for.
    pub apps: Vec<String>,
    /// Who has the private key, where it is known to be somebody else.
    pub held_by: Option<String>,
}

/// What came of them.
#[derive(Debug, Serialize, JsonSchema)]
pub struct IdentityAcceptReport {
    /// The certificates, in file order.
    pub accepted: Vec<Accepted>,
    /// Certificates of authorities that came in with them and were not there.
    pub authorities: Vec<CertificateSaid>,
    /// The time of this report.
    pub at: Timestamp,
}

/// What came of one certificate.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Accepted {
    /// The identity that it belongs to.
    #[serde(flatten)]
    pub identity: IdentitySaid,
    /// What that means for the cabinet.
    pub outcome: Outcome,
    /// Who vouches for it.
    pub chain: ChainSaid,
    /// Identities of the same kind that look like it: the same subject under another certificate.
    pub alike: Vec<IdentitySaid>,
    /// An identity that waits for a certificate over the same key, and for which this one is not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub still_waiting: Option<String>,
}

/// What a certificate meant for the cabinet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// It is what was asked for.
    Answered,
    /// It is an identity of its own.
    New,
    /// It was there.
    Known,
}

/// Why a certificate is no identity that could be kept.
#[derive(Debug, Error)]
pub enum UnfitError {
    /// Its extensions cannot be read.
    #[error("the certificate of {subject} cannot be read: {cause}")]
    Unreadable {
        /// RFC 4514.
        subject: String,
        /// What was wrong.
        cause: ParseError,
    },
    /// It is marked for nothing that is known.
    #[error("the certificate of {0} is marked neither for development nor for distribution nor for push")]
    NoPurpose(String),
    /// It names no team.
    #[error("the certificate of {0} names no team (the OU of its subject)")]
    NoTeam(String),
    /// It was issued to a team that the project file does not name.
    #[error("the certificate of {subject} was issued to the team {team}, and the project file names {}", known.join(", "))]
    OtherTeam {
        /// RFC 4514.
        subject: String,
        /// Its team.
        team: String,
        /// The teams that are named.
        known: Vec<String>,
    },
    /// The authority that it names did not sign it.
    #[error("the certificate of {subject} is forged: {issuer} did not sign it")]
    Forged {
        /// RFC 4514.
        subject: String,
        /// RFC 4514.
        issuer: String,
    },
    /// A push certificate whose app is not known.
    #[error("the push certificate of {0} names no app of the project file")]
    NoApp(String),
}

/// Why nothing was accepted.
#[derive(Debug, Error)]
pub enum IdentityAcceptError {
    /// A name that cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// One name for several.
    #[error("one name is for one identity, and there are {0} new ones")]
    SeveralForOneName(usize),
    /// The apps.
    #[error(transparent)]
    Apps(#[from] AppsError),
    /// The files.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
    /// A certificate that is no identity.
    #[error(transparent)]
    Unfit(#[from] UnfitError),
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

/// A certificate that is an identity's, and what it says.
pub(crate) struct Fit {
    pub(crate) certificate: Certificate,
    pub(crate) purpose: IdentityPurpose,
    pub(crate) team: String,
    pub(crate) apps: Vec<String>,
}

/// Where a certificate belongs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Place {
    /// An identity that has it.
    Known(ItemId),
    /// One that waits for it.
    Waiting(ItemId),
    /// One that has it and lacks the key that is here now.
    Keyless(ItemId),
    /// None yet.
    New,
}

impl Fit {
    /// Reads what a certificate is for; refuses what can be no identity of this project.
    pub(crate) fn read(
        certificate: Certificate,
        apps: &[String],
        project: Option<&Project>,
        pool: &[Certificate],
    ) -> Result<Fit, UnfitError> {
        let subject = || certificate.subject.clone();
        let Says { purpose, team, topics } = marks::read(&certificate)
            .map_err(|cause| UnfitError::Unreadable { subject: subject(), cause })?;
        let purpose = purpose.ok_or_else(|| UnfitError::NoPurpose(subject()))?;
        let team = team.ok_or_else(|| UnfitError::NoTeam(subject()))?;
        let known = project.map(Project::teams).unwrap_or_default();
        if !known.is_empty() && !known.contains(&team.as_str()) {
            let known = known.into_iter().map(str::to_owned).collect();
            return Err(UnfitError::OtherTeam { subject: subject(), team, known });
        }
        if is_forged(&certificate, pool) {
            return Err(UnfitError::Forged { subject: subject(), issuer: certificate.issuer.clone() });
        }
        let mut apps = apps.to_vec();
        if apps.is_empty() && matches!(purpose, IdentityPurpose::Push(_)) {
            let of = |topic: &String| project?.app_of(Platform::Ios, topic).map(|(name, _)| name.to_owned());
            apps.extend(topics.iter().find_map(of));
        }
        Ok(Fit { certificate, purpose, team, apps })
    }

    /// Where it belongs in a cabinet; `key` is its private key there.
    pub(crate) fn place(&self, inventory: &Inventory, key: Option<ItemId>) -> Place {
        let fingerprint = sha256_hex(&self.certificate.der);
        let known = identity::certificate_with(inventory, &fingerprint).map(|item| item.id);
        let all = identity::all(inventory);
        if let Some((item, facts)) =
            all.iter().find(|(_, facts)| known.is_some() && facts.certificate == known)
        {
            return if facts.key.is_none() && key.is_some() {
                Place::Keyless(item.id)
            } else {
                Place::Known(item.id)
            };
        }
        let public = sha256_hex(&self.certificate.public_key);
        let fits = |(_, facts): &&(&Item, &IdentityFacts)| {
            let same_key = match facts.key {
                Some(_) => facts.key == key,
                None => identity::asked_key(facts).is_some_and(|asked| asked.sha256 == public),
            };
            let same_app = self.apps.is_empty() || facts.apps.is_empty() || facts.apps == self.apps;
            facts.certificate.is_none()
                && same_key
                && same_app
                && facts.purpose.nine_key() == self.purpose.nine_key()
        };
        all.iter().find(fits).map_or(Place::New, |(item, _)| Place::Waiting(item.id))
    }

    /// The private key that it is for, where the cabinet has it.
    pub(crate) fn key(&self, inventory: &Inventory) -> Option<ItemId> {
        keystore::key_with(inventory, &sha256_hex(&self.certificate.public_key))
    }

    /// What an identity of it is called when nobody says.
    fn usual_name(&self) -> String {
        let year = identity::year(crate::answers::time(self.certificate.not_after));
        match (self.purpose, self.apps.as_slice()) {
            (IdentityPurpose::Push(_), [app, ..]) => format!("{app}-push-{year}"),
            (IdentityPurpose::Push(_), []) => format!("push-{year}"),
            (IdentityPurpose::Development, _) => format!("development-{year}"),
            (IdentityPurpose::Distribution, _) => format!("distribution-{year}"),
        }
    }

    /// Puts it where it belongs; tells the identity's name and what that meant.
    pub(crate) fn put(
        &self,
        change: &mut Change<'_>,
        name: Option<&str>,
        held_by: Option<&str>,
    ) -> Result<(String, Outcome), CabinetError> {
        let inventory = change.inventory();
        let key = self.key(&inventory);
        let at = |id: &ItemId| inventory.get(id).cloned();
        match self.place(&inventory, key) {
            Place::Known(id) => Ok((at(&id).map(|item| item.name).unwrap_or_default(), Outcome::Known)),
            Place::Waiting(id) | Place::Keyless(id) => {
                let gone = || CabinetError::Tampered(format!("the identity {id} is gone"));
                let mut item = at(&id).ok_or_else(gone)?;
                let Facts::Identity(before) = &item.facts else { return Err(gone()) };
                let mut facts = before.clone();
                let called = format!("{}/certificate", item.name);
                facts.certificate = Some(identity::put_certificate(change, called, &self.certificate, key)?);
                facts.key = facts.key.or(key);
                facts.purpose = self.purpose;
                facts.team = Some(self.team.clone());
                if facts.apps.is_empty() {
                    facts.apps.clone_from(&self.apps);
                }
                if facts.key.is_some() {
                    facts.held_by = None;
                }
                item.facts = Facts::Identity(facts);
                change.revise(&item, None)?;
                Ok((item.name, Outcome::Answered))
            }
            Place::New => {
                let name = match name {
                    Some(name) => name.to_owned(),
                    None => identity::free_name(&inventory, &self.usual_name()),
                };
                let called = format!("{name}/certificate");
                let certificate = identity::put_certificate(change, called, &self.certificate, key)?;
                let facts = IdentityFacts {
                    purpose: self.purpose,
                    key,
                    certificate: Some(certificate),
                    team: Some(self.team.clone()),
                    apps: self.apps.clone(),
                    request: None,
                    held_by: held_by.filter(|_| key.is_none()).map(str::to_owned),
                    revoked: None,
                };
                change.put(NewItem::new(name.as_str(), Facts::Identity(Box::new(facts)), None))?;
                Ok((name, Outcome::New))
            }
        }
    }
}

/// Whether an authority at hand has the name and the key that a certificate names, and did not sign it.
fn is_forged(certificate: &Certificate, pool: &[Certificate]) -> bool {
    let wanted = certificate.extensions.issuer_key_id().ok().flatten();
    let named = |one: &&Certificate| {
        let id = one.extensions.key_id().ok().flatten();
        one.subject_der == certificate.issuer_der && wanted.is_some() && id == wanted
    };
    let mut named = pool.iter().filter(named).peekable();
    named.peek().is_some() && !named.any(|one| ninekeys_core::chain::signed_by(certificate, one))
}

/// Accepts certificates. Nothing is written before all of them are found fit.
///
/// # Errors
/// [`IdentityAcceptError`]; then the cabinet is as it was.
pub fn identity_accept(
    ctx: &Ctx<'_>,
    request: &Request,
) -> Result<IdentityAcceptReport, IdentityAcceptError> {
    request.name.as_deref().map_or(Ok(()), check_name)?;
    request.held_by.as_deref().map_or(Ok(()), check_title)?;
    let named_apps: Vec<String> =
        identity::apps(ctx, &request.apps)?.into_iter().map(|app| app.app).collect();
    let mut given = Vec::new();
    for file in &request.files {
        given.extend(identity::read_certificates(&ctx.path(file))?);
    }
    let (mut above, leaves): (Vec<Certificate>, Vec<Certificate>) = given.into_iter().partition(is_authority);
    for file in &request.chain {
        above.extend(identity::read_certificates(&ctx.path(file))?);
    }
    let file = ctx.project_if_any()?;
    let project = file.as_ref().map(|file| &file.project);
    let roots = identity::roots(file.as_ref())?;
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let mut pool = identity::authorities(&inventory);
    pool.extend(above.iter().chain(&roots).cloned());
    let mut fits: Vec<Fit> = Vec::new();
    for leaf in leaves {
        if !fits.iter().any(|known| known.certificate.der == leaf.der) {
            fits.push(Fit::read(leaf, &named_apps, project, &pool)?);
        }
    }
    let new = refuse_names(&inventory, &fits, request)?;
    for one in fetch_above(file.as_ref(), &inventory, &fits, &pool) {
        pool.push(one.clone());
        above.push(one);
    }
    let needed: Vec<Certificate> = unknown(&inventory, &above);
    if new || !needed.is_empty() {
        ctx.unlock(&mut cabinet)?;
    }
    let mut outcomes = Vec::new();
    let mut authorities = Vec::new();
    if new || !needed.is_empty() {
        let names: Vec<String> =
            request.files.iter().map(|file| crate::build::check::file_name(file)).collect();
        let what = format!("identity accept {}", names.join(" "));
        (outcomes, authorities) = cabinet.change(&what, &ctx.env, |change| {
            let authorities = identity::put_authorities(change, &needed)?;
            let mut outcomes = Vec::new();
            for fit in &fits {
                outcomes.push(fit.put(change, request.name.as_deref(), request.held_by.as_deref())?);
            }
            Ok::<_, CabinetError>((outcomes, authorities))
        })?;
    } else {
        for fit in &fits {
            if let Place::Known(id) = fit.place(&inventory, fit.key(&inventory)) {
                let name = inventory.get(&id).map(|item| item.name.clone()).unwrap_or_default();
                outcomes.push((name, Outcome::Known));
            }
        }
    }
    let inventory = cabinet.inventory()?;
    let told = fits.iter().zip(outcomes);
    let accepted = told.filter_map(|(fit, outcome)| tell(&inventory, project, (fit, outcome), &pool, &roots));
    Ok(IdentityAcceptReport { accepted: accepted.collect(), authorities, at: ctx.env.now })
}

/// The certificates that chains lack, from where the certificate below says that they can be had: for those whose key is here,
/// which were asked for. What comes back is taken when it signed the one below, and else it is nothing.
fn fetch_above(
    file: Option<&ProjectFile>,
    inventory: &Inventory,
    fits: &[Fit],
    pool: &[Certificate],
) -> Vec<Certificate> {
    let mut found: Vec<Certificate> = Vec::new();
    let mut asked: Vec<String> = Vec::new();
    let pinned = file.and_then(|file| portal::pin(file).ok().flatten());
    let Ok(fetcher) = Fetcher::new(pinned.as_deref()) else { return found };
    for fit in fits.iter().filter(|fit| fit.key(inventory).is_some()) {
        while asked.len() < MOST_FETCHED {
            let known: Vec<Certificate> = pool.iter().chain(&found).cloned().collect();
            let chain = Chain::find(&fit.certificate, &known);
            let (End::Lacks { addresses, .. }, Some(top)) = (&chain.end, chain.certificates.last()) else {
                break;
            };
            let Some(address) = addresses.iter().find(|address| !asked.contains(*address)) else { break };
            asked.push(address.clone());
            let bytes = fetcher.get(address).unwrap_or_default();
            let all = identity::certificates_in(bytes).unwrap_or_default();
            found.extend(all.into_iter().find(|one| is_authority(one) && signed_by(top, one)));
        }
    }
    found
}

/// Whether there is anything to write; refuses a name that does not fit, and push identities of no app.
fn refuse_names(inventory: &Inventory, fits: &[Fit], request: &Request) -> Result<bool, IdentityAcceptError> {
    let places: Vec<Place> = fits.iter().map(|fit| fit.place(inventory, fit.key(inventory))).collect();
    let new: Vec<&Fit> =
        fits.iter().zip(&places).filter(|(_, place)| **place == Place::New).map(|(fit, _)| fit).collect();
    if let Some(lost) =
        new.iter().find(|fit| matches!(fit.purpose, IdentityPurpose::Push(_)) && fit.apps.is_empty())
    {
        return Err(UnfitError::NoApp(lost.certificate.subject.clone()).into());
    }
    if let Some(name) = &request.name {
        if new.len() > 1 {
            return Err(IdentityAcceptError::SeveralForOneName(new.len()));
        }
        if !new.is_empty() && inventory.iter().any(|item| item.name.eq_ignore_ascii_case(name)) {
            return Err(CabinetError::NameTaken(name.clone()).into());
        }
    }
    Ok(places.iter().any(|place| !matches!(place, Place::Known(_))))
}

/// The authorities' certificates that the cabinet does not have.
fn unknown(inventory: &Inventory, certificates: &[Certificate]) -> Vec<Certificate> {
    let is_new = |one: &&Certificate| identity::certificate_with(inventory, &sha256_hex(&one.der)).is_none();
    certificates.iter().filter(is_new).cloned().collect()
}

fn tell(
    inventory: &Inventory,
    project: Option<&Project>,
    (fit, (name, outcome)): (&Fit, (String, Outcome)),
    pool: &[Certificate],
    roots: &[Certificate],
) -> Option<Accepted> {
    let (item, facts) = identity::find(inventory, &name).ok()?;
    let chain = Chain::find(&fit.certificate, pool);
    let waits = |(_, other): &&(&Item, &IdentityFacts)| {
        other.certificate.is_none() && other.key.is_some() && other.key == facts.key
    };
    let all = identity::all(inventory);
    let said =
        |(item, facts): &(&Item, &IdentityFacts)| identity::said(inventory, &item.name, facts, project);
    let alike = all.iter().filter(|(other, _)| other.id != item.id && other.state == State::Active).map(said);
    let subject = &fit.certificate.subject;
    let alike = alike.filter(|other| other.certificate.as_ref().is_some_and(|c| &c.subject == subject));
    debug_assert!(chain.end != End::TooLong || chain.certificates.len() > 1, "a path has links");
    Some(Accepted {
        identity: identity::said(inventory, &item.name, facts, project),
        outcome,
        chain: identity::chain_said(&chain, roots),
        alike: alike.collect(),
        still_waiting: all.iter().find(waits).map(|(item, _)| item.name.clone()),
    })
}
