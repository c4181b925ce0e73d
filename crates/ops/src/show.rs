//! `show`: one item with all that hangs on it.

use std::collections::BTreeMap;

use base64ct::{Base64, Encoding};
use jiff::Timestamp;
use ninekeys_cabinet::Look;
use ninekeys_core::android::V2Algorithm;
use ninekeys_core::chain::Chain;
use ninekeys_core::digest::{from_hex, hex, sha1, sha256};
use ninekeys_core::ios::setup::allows_device;
use ninekeys_core::keys::PublicKey;
use ninekeys_core::links::{self, Need, Stop};
use ninekeys_core::model::{
    CertificateFacts, Facts, Inventory, Item, KeyFacts, NotFound, ProfileFacts, Project, Role, State, Use,
};
use ninekeys_formats::x509::KeyShape;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::{CertificateSaid, KeySaid};
use crate::app::statement::{AppStatementReport, statement_of, with_colons};
use crate::ctx::{Ctx, OpenError};
use crate::device::DeviceSaid;
use crate::given::{self, Receiver};
use crate::identity::{self, CertificatesError, ChainSaid, IdentitySaid};
use crate::profile::{self, ProfileSaid};
use crate::project::{ProjectError, ProjectFile};

/// An item, whole.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ShowReport {
    /// Its name.
    pub name: String,
    /// The word for its kind.
    pub kind: &'static str,
    /// Its id.
    pub id: String,
    /// In use or retired.
    pub state: State,
    /// Its generation.
    pub generation: u32,
    /// When it came into the cabinet.
    pub created: Timestamp,
    /// What of it is public.
    pub facts: Facts,
    /// What it is made of: key and certificate of each entry, for a keystore.
    pub parts: Vec<Part>,
    /// What it is, for what only the iOS side has.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub ios: Option<Shown>,
    /// What it needs: items that it names.
    pub needs: Vec<Need>,
    /// What stops without it, from when on, in which apps and destinations.
    pub stops: Vec<Stop>,
    /// Of a signing key: what a web domain says of the apps that it signs, each with the place of that file.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub statements: Vec<AppStatementReport>,
    /// What hangs on it: names of items.
    pub dependents: Vec<Dependent>,
    /// Builds that were signed with it, newest first.
    pub releases: Vec<String>,
    /// Who was given it, the newest first.
    pub given_to: Vec<Receiver>,
    /// Whether a backup has it.
    pub backed_up: bool,
    /// The time of the look.
    pub at: Timestamp,
}

/// What only the iOS side has, with what hangs on it both ways.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Shown {
    /// An identity.
    Identity {
        /// The identity.
        identity: Box<IdentitySaid>,
        /// Who vouches for its certificate.
        chain: Option<ChainSaid>,
        /// Its certificate's fingerprints as registration pages want them.
        forms: Option<Forms>,
        /// The profiles in use that name its certificate.
        profiles: Vec<String>,
    },
    /// A provisioning profile.
    Profile {
        /// The profile.
        profile: Box<ProfileSaid>,
        /// The most that an app with it may claim, each value as text.
        entitlements: BTreeMap<String, String>,
    },
    /// A device.
    Device {
        /// The device.
        device: DeviceSaid,
        /// The profiles in use that allow it.
        profiles: Vec<String>,
    },
}

/// A key in a keystore, with its certificate.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Part {
    /// Its alias.
    pub alias: String,
    /// What it was made as.
    pub role: Role,
    /// What it is for.
    pub uses: Vec<Use>,
    /// Whether it can be kept and exported, and not signed with.
    pub signs_nothing: bool,
    /// The key.
    pub key: KeySaid,
    /// Its certificate.
    pub certificate: CertificateSaid,
    /// The certificate's serial number, hexadecimal.
    pub serial: String,
    /// The certificate's fingerprints as registration pages want them.
    pub forms: Forms,
    /// What a store knows it as, that holds an app's signing key.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub at_store: Vec<AtStore>,
}

/// What a store knows a key as.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AtStore {
    /// The app.
    pub app: String,
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// What the key does there.
    pub does: KeyDoes,
}

/// What a key does at a store that holds an app's signing key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum KeyDoes {
    /// The store signs with it what devices get.
    Signs,
    /// Builds for the store are signed with it.
    Uploads,
    /// Builds for the store will be, from this time on.
    UploadsFrom(Timestamp),
}

fn at_store(project: Option<&Project>, certificate: &str) -> Vec<AtStore> {
    let apps = project.into_iter().flat_map(|project| &project.apps);
    let sides = apps.filter_map(|(name, app)| Some((name, app.android.as_ref()?)));
    let keys = sides.flat_map(|(name, side)| {
        let first = side.store_keys.iter().map(move |keys| (name, None, keys));
        let others = side.stores.iter();
        first.chain(
            others.filter_map(move |(store, there)| Some((name, Some(store), there.store_keys.as_ref()?))),
        )
    });
    keys.flat_map(|(name, store, keys)| {
        let next = keys.next_upload.as_ref().filter(|next| next.certificate == certificate);
        let does = [
            (keys.signing == certificate).then_some(KeyDoes::Signs),
            (keys.upload == certificate).then_some(KeyDoes::Uploads),
            next.map(|next| KeyDoes::UploadsFrom(next.from)),
        ];
        let told = |does| AtStore { app: name.to_string(), store: store.map(ToString::to_string), does };
        does.into_iter().flatten().map(told).collect::<Vec<_>>()
    })
    .collect()
}

/// Fingerprints of a certificate as registration pages want them.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Forms {
    /// SHA-256: pairs of upper-case digits with colons between.
    pub sha256: String,
    /// SHA-1, in the same form.
    pub sha1: String,
    /// SHA-1 in Base64.
    pub sha1_base64: String,
    /// SHA-256 in Base64.
    pub sha256_base64: String,
}

impl Forms {
    fn of(certificate: &CertificateFacts) -> Self {
        let der = from_hex(&certificate.der).unwrap_or_default();
        let (sha1, sha256) = (sha1(&der), sha256(&der));
        Forms {
            sha256: with_colons(&hex(&sha256)),
            sha1: with_colons(&hex(&sha1)),
            sha1_base64: Base64::encode_string(&sha1),
            sha256_base64: Base64::encode_string(&sha256),
        }
    }
}

/// Something that hangs on the item.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Dependent {
    /// Its name.
    pub name: String,
    /// The word for its kind.
    pub kind: &'static str,
}

/// Why it cannot be shown.
#[derive(Debug, Error)]
pub enum ShowError {
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// No such item.
    #[error(transparent)]
    NotFound(#[from] NotFound),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The roots that it names.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
}

/// Shows the item with that name.
///
/// # Errors
/// [`ShowError`].
pub fn show(ctx: &Ctx<'_>, name: &str) -> Result<ShowReport, ShowError> {
    let Look { inventory: all, last_backup, .. } = ctx.look()?;
    let item = all.find(name)?;
    let file = ctx.project_if_any()?;
    let project = file.as_ref().map(|file| &file.project);
    let mut dependents: Vec<Dependent> = all
        .dependents(&item.id)
        .filter(|other| !matches!(other.facts, Facts::Release(_) | Facts::HandOut(_) | Facts::Rotation(_)))
        .map(|other| Dependent { name: other.name.clone(), kind: other.facts.word() })
        .collect();
    dependents.sort_by(|a, b| a.name.cmp(&b.name));
    // by key and certificate and not by the name, which may have been another then
    let signers = signers(&all, item);
    let mut releases: Vec<String> = all
        .releases()
        .into_iter()
        .filter(|release| {
            signers.iter().any(|(key, certificate)| {
                let known = !release.signer_certificate.is_empty();
                release.signer == *key
                    && certificate.is_none_or(|own| !known || release.signer_certificate == own)
            })
        })
        .map(|release| release.file.clone())
        .collect();
    releases.reverse();
    Ok(ShowReport {
        name: item.name.clone(),
        kind: item.facts.word(),
        id: item.id.to_string(),
        state: item.state,
        generation: item.generation,
        created: item.created,
        facts: item.facts.clone(),
        parts: parts(&all, item, project),
        needs: links::needs(&all, item),
        stops: links::stops(&all, project, item),
        statements: statements(&all, project, item),
        ios: ios(file.as_ref(), &all, item)?,
        dependents,
        releases,
        given_to: given::receivers(&all, &item.id),
        backed_up: last_backup.is_some_and(|backup| backup.holds(item, &all)),
        at: ctx.env.now,
    })
}

/// What web domains say of the apps that a keystore's keys sign.
fn statements(all: &Inventory, project: Option<&Project>, item: &Item) -> Vec<AppStatementReport> {
    let Facts::Keystore(facts) = &item.facts else { return Vec::new() };
    let mut apps: Vec<&str> = facts.entries.iter().flat_map(|entry| entry.apps_as(Role::Signing)).collect();
    apps.sort_unstable();
    apps.dedup();
    let of = |app: &str| {
        let (name, app) = project?.apps.iter().find(|(known, _)| known.as_str() == app)?;
        statement_of(all, name, app.android.as_ref()?)
    };
    apps.into_iter().filter_map(of).collect()
}

/// The fingerprints of the keys that an item is or holds, each with that of the certificate it signs under, if it says one.
fn signers<'a>(all: &'a Inventory, item: &'a Item) -> Vec<(&'a str, Option<&'a str>)> {
    match &item.facts {
        Facts::Key(key) => vec![(&key.fingerprint, None)],
        Facts::Keystore(facts) => {
            let of = |entry| {
                let key = crate::keystore::key_facts(all, entry)?;
                let certificate = crate::keystore::certificate_of(all, entry)?;
                Some((key.fingerprint.as_str(), Some(certificate.fingerprint.as_str())))
            };
            facts.entries.iter().filter_map(of).collect()
        }
        Facts::Identity(facts) => {
            let key = facts.key.as_ref().and_then(|id| identity::key_facts(all, id));
            let certificate = facts.certificate.as_ref().and_then(|id| identity::certificate_facts(all, id));
            let signer =
                |key: &'a KeyFacts| (key.fingerprint.as_str(), certificate.map(|c| c.fingerprint.as_str()));
            key.map(signer).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

/// What only the iOS side has.
fn ios(file: Option<&ProjectFile>, all: &Inventory, item: &Item) -> Result<Option<Shown>, ShowError> {
    let project = file.map(|file| &file.project);
    Ok(match &item.facts {
        Facts::Identity(facts) => {
            let roots = identity::roots(file)?;
            let mut pool = identity::authorities(all);
            pool.extend(roots.iter().cloned());
            let own = facts.certificate.as_ref().and_then(|id| identity::certificate_facts(all, id));
            let chain = own.and_then(identity::parsed).map(|certificate| Chain::find(&certificate, &pool));
            let names = |profile: &ProfileFacts| {
                own.is_some_and(|own| profile.foreign_certificates.contains(&own.fingerprint))
                    || facts.certificate.is_some_and(|id| profile.certificates.contains(&id))
            };
            Some(Shown::Identity {
                identity: Box::new(identity::said(all, &item.name, facts, project)),
                chain: chain.map(|chain| identity::chain_said(&chain, &roots)),
                forms: own.map(Forms::of),
                profiles: profiles_that(all, names),
            })
        }
        Facts::Profile(facts) => {
            let texts = facts.entitlements.iter().map(|(key, value)| (key.clone(), value.to_string()));
            Some(Shown::Profile {
                profile: Box::new(profile::said(all, &item.name, facts, project)),
                entitlements: texts.collect(),
            })
        }
        Facts::Device(facts) => {
            let device = DeviceSaid {
                device: item.name.clone(),
                title: facts.title.clone(),
                identifier: facts.identifier.clone(),
            };
            let allowed = |profile: &ProfileFacts| allows_device(all, profile, &facts.identifier);
            Some(Shown::Device { device, profiles: profiles_that(all, allowed) })
        }
        _ => None,
    })
}

/// The profiles in use of which something holds, by name.
fn profiles_that(all: &Inventory, holds: impl Fn(&ProfileFacts) -> bool) -> Vec<String> {
    let active = all.iter().filter(|item| item.state == State::Active);
    let mut names: Vec<String> = active
        .filter(|item| matches!(&item.facts, Facts::Profile(profile) if holds(profile)))
        .map(|item| item.name.clone())
        .collect();
    names.sort();
    names
}

/// Whether the key is of a kind or size that no signature is made with any more.
fn signs_nothing(public_key: &str) -> bool {
    let key = from_hex(public_key).and_then(|der| PublicKey::from_der(&der).ok());
    key.is_none_or(|key| V2Algorithm::for_key(key.shape()).is_none() || is_short(&key))
}

fn is_short(key: &PublicKey) -> bool {
    matches!(key.shape(), KeyShape::Rsa { bits } if *bits < 2048)
}

fn parts(all: &Inventory, item: &Item, project: Option<&Project>) -> Vec<Part> {
    let Facts::Keystore(facts) = &item.facts else { return Vec::new() };
    let part = |entry: &ninekeys_core::model::KeystoreEntry| {
        let Facts::Key(key) = &all.get(&entry.key)?.facts else { return None };
        let Facts::Certificate(certificate) = &all.get(&entry.certificate)?.facts else { return None };
        Some(Part {
            alias: entry.alias.clone(),
            role: entry.role,
            uses: entry.uses.clone(),
            signs_nothing: signs_nothing(&key.public_key),
            key: key.into(),
            certificate: certificate.as_ref().into(),
            serial: certificate.serial.clone(),
            forms: Forms::of(certificate),
            at_store: at_store(project, &certificate.fingerprint),
        })
    };
    facts.entries.iter().filter_map(part).collect()
}
