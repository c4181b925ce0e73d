//! `inventory`: everything in the cabinet, a line each, without a passphrase.

use std::collections::{HashMap, HashSet};

use jiff::Timestamp;
use ninekeys_cabinet::CabinetError;
use ninekeys_core::board::{Mark, date_mark};
use ninekeys_core::model::{
    CertificateFacts, Facts, IdentityFacts, Inventory, Item, ItemId, NineKey, Policy, State, Wholeness,
};
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// What the cabinet holds.
#[derive(Debug, Serialize, JsonSchema)]
pub struct InventoryReport {
    /// The lines: keys by what they are for, then everything else by name.
    pub items: Vec<Line>,
    /// The time of the look.
    pub at: Timestamp,
    /// Whether anything of it is in no backup.
    pub backed_up: bool,
}

/// One line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Line {
    /// The item's name.
    pub name: String,
    /// The word for its kind: `signing key`, `device`, …
    pub kind: &'static str,
    /// Its alias, for a key in a keystore.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub alias: Option<String>,
    /// Kind and size of a key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub algorithm: Option<String>,
    /// The apps it is for.
    pub apps: Vec<String>,
    /// Until when it is good.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
    /// SHA-256 of the certificate, of a profile's file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
    /// The certificate's serial number, hexadecimal: what tells identities apart that look alike.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub serial: Option<String>,
    /// Where an identity stands between key and certificate.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wholeness: Option<Wholeness>,
    /// Who has an identity's private key, where it is somebody else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub held_by: Option<String>,
    /// How many profiles in use name its certificate.
    #[serde(skip_serializing_if = "is_none")]
    pub profiles: usize,
    /// How many builds were signed with it.
    #[serde(skip_serializing_if = "is_none")]
    pub releases: usize,
    /// In use or retired.
    pub state: State,
    /// Its generation.
    pub generation: u32,
    /// How it stands.
    pub mark: Mark,
    /// Its kind's place: that of the nine keys, then the rest.
    #[serde(skip)]
    rank: usize,
}

/// Why it could not be told.
#[derive(Debug, Error)]
pub enum InventoryError {
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet could not be read.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The project file is there and of no use.
    #[error(transparent)]
    Project(#[from] ProjectError),
}

/// Lists the cabinet. Releases have a list of their own.
///
/// # Errors
/// [`InventoryError`].
pub fn inventory(ctx: &Ctx<'_>) -> Result<InventoryReport, InventoryError> {
    let cabinet = ctx.open()?;
    let all = cabinet.inventory()?;
    let last_backup = cabinet.last_backup();
    // what was proved is not needed to be told: a large cabinet's records are as much again as what is told of them
    cabinet.close();
    let policy = ctx.project_if_any()?.map_or_else(Policy::default, |file| file.project.policy);
    let mut items = Vec::new();
    let uses = Uses::of(&all);
    all.iter().for_each(|item| add_lines(&all, item, &uses, &mut items));
    for line in &mut items {
        line.mark = line.not_after.map_or(Mark::InUse, |until| date_mark(until, ctx.env.now, &policy));
    }
    let at_risk: HashSet<&str> = all
        .keystores()
        .into_iter()
        .filter(|(_, facts)| last_backup.is_none_or(|backup| !backup.has_keys(facts, &all)))
        .map(|(item, _)| item.name.as_str())
        .collect();
    for line in items.iter_mut().filter(|line| line.kind == NineKey::Signing.word()) {
        if line.mark != Mark::Expired && at_risk.contains(line.name.as_str()) {
            line.mark = Mark::AtRisk;
        }
    }
    items.par_sort_unstable_by(|a, b| (a.rank, &a.name, &a.alias).cmp(&(b.rank, &b.name, &b.alias)));
    Ok(InventoryReport { items, at: ctx.env.now, backed_up: at_risk.is_empty() })
}

fn rank(kind: &str) -> usize {
    NineKey::ALL.iter().position(|key| key.word() == kind).unwrap_or(NineKey::ALL.len())
}

fn add_lines(all: &Inventory, item: &Item, uses: &Uses<'_>, into: &mut Vec<Line>) {
    let line = |kind: &'static str| Line {
        name: item.name.clone(),
        kind,
        alias: None,
        algorithm: None,
        apps: Vec::new(),
        not_after: None,
        sha256: None,
        serial: None,
        wholeness: None,
        held_by: None,
        profiles: 0,
        releases: 0,
        state: item.state,
        generation: item.generation,
        mark: Mark::InUse,
        rank: rank(kind),
    };
    match &item.facts {
        // keys and certificates are told with what they are in; releases have their own list
        Facts::Key(_) | Facts::Certificate(_) | Facts::Release(_) | Facts::HandOut(_) => {}
        Facts::Keystore(facts) => {
            for entry in &facts.entries {
                let certificate = certificate_of(all, &entry.certificate);
                // a key that signs one app and uploads another is two of the nine
                into.extend(entry.roles().into_iter().map(|role| Line {
                    alias: Some(entry.alias.clone()),
                    algorithm: algorithm_of(all, &entry.key),
                    apps: entry.apps_as(role).into_iter().map(str::to_owned).collect(),
                    not_after: certificate.map(|c| c.not_after),
                    sha256: certificate.map(|c| c.fingerprint.clone()),
                    ..line(role.nine_key().word())
                }));
            }
        }
        Facts::Profile(profile) => into.push(Line {
            not_after: Some(profile.not_after),
            sha256: Some(profile.fingerprint.clone()),
            apps: profile.apps.clone(),
            ..line(NineKey::Profile.word())
        }),
        Facts::Identity(identity) => {
            let line = line(identity.purpose.nine_key().word());
            into.push(identity_line(all, identity, uses, line));
        }
        Facts::ApiKey(key) => {
            let algorithm = key.key.as_ref().and_then(|key| algorithm_of(all, key));
            let line = line(key.service.nine_key().word());
            into.push(Line { algorithm, apps: key.apps.clone(), ..line });
        }
        Facts::Device(_) => into.push(line("device")),
    }
}

fn identity_line(all: &Inventory, identity: &IdentityFacts, uses: &Uses<'_>, line: Line) -> Line {
    let certificate = identity.certificate.as_ref().and_then(|id| certificate_of(all, id));
    Line {
        algorithm: identity.key.as_ref().and_then(|key| algorithm_of(all, key)),
        apps: identity.apps.clone(),
        not_after: certificate.map(|c| c.not_after),
        sha256: certificate.map(|c| c.fingerprint.clone()),
        serial: certificate.map(|c| c.serial.clone()),
        wholeness: Some(identity.wholeness()),
        held_by: identity.held_by.clone(),
        profiles: uses.profiles(identity.certificate.as_ref(), certificate),
        releases: certificate.map_or(0, |c| uses.releases(&c.fingerprint)),
        ..line
    }
}

fn is_none(count: &usize) -> bool {
    *count == 0
}

/// How often certificates are named: a list of 100,000 is gone through once.
#[derive(Default)]
struct Uses<'a> {
    by_id: HashMap<&'a ItemId, usize>,
    by_fingerprint: HashMap<&'a str, usize>,
    signed: HashMap<&'a str, usize>,
}

impl<'a> Uses<'a> {
    fn of(all: &'a Inventory) -> Self {
        let mut uses = Uses::default();
        for item in all.iter().filter(|item| item.state == State::Active) {
            match &item.facts {
                Facts::Profile(profile) => {
                    profile.certificates.iter().for_each(|id| *uses.by_id.entry(id).or_default() += 1);
                    let foreign = profile.foreign_certificates.iter();
                    foreign.for_each(|one| *uses.by_fingerprint.entry(one).or_default() += 1);
                }
                Facts::Release(release) => {
                    *uses.signed.entry(release.signer_certificate.as_str()).or_default() += 1;
                }
                _ => {}
            }
        }
        uses
    }

    fn profiles(&self, id: Option<&ItemId>, certificate: Option<&CertificateFacts>) -> usize {
        let known = id.and_then(|id| self.by_id.get(id)).copied().unwrap_or_default();
        let foreign = certificate.and_then(|c| self.by_fingerprint.get(c.fingerprint.as_str()));
        known + foreign.copied().unwrap_or_default()
    }

    fn releases(&self, fingerprint: &str) -> usize {
        self.signed.get(fingerprint).copied().unwrap_or_default()
    }
}

fn certificate_of<'a>(all: &'a Inventory, id: &ItemId) -> Option<&'a CertificateFacts> {
    match &all.get(id)?.facts {
        Facts::Certificate(certificate) => Some(certificate),
        _ => None,
    }
}

fn algorithm_of(all: &Inventory, id: &ItemId) -> Option<String> {
    match &all.get(id)?.facts {
        Facts::Key(key) => Some(key.algorithm.clone()),
        _ => None,
    }
}
