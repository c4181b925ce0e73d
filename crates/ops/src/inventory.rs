//! `inventory`: everything in the cabinet, a line each, without a passphrase.

use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};

use jiff::{SignedDuration, Timestamp};
use ninekeys_cabinet::Look;
use ninekeys_core::board::{Mark, date_mark};
use ninekeys_core::model::{
    CertificateFacts, Facts, IdentityFacts, Inventory, Item, ItemId, KeystoreEntry, LastBackup, NineKey,
    Policy, Role, State, Wholeness,
};
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// Which lines are wanted, and in which order; all of them when nothing is said.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// What ends within so many days, or has ended, and is in use.
    pub expiring: Option<u32>,
    /// Of these kinds, by their words.
    pub kinds: Vec<&'static str>,
    /// For this app.
    pub app: Option<String>,
    /// In this state.
    pub state: Option<Standing>,
    /// In this order.
    pub sort: Sort,
    /// In groups of this.
    pub group: Option<Group>,
}

/// What lines are put into groups by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Group {
    /// The app; what is for several, or for all, has a group of its own.
    App,
    /// The kind.
    Kind,
    /// How they stand.
    Mark,
}

/// How an item stands, for those who look for some.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// In use, and nothing is the matter with it.
    InUse,
    /// It falls due.
    FallsDue,
    /// It has ended.
    Expired,
    /// In no backup.
    NoCopy,
    /// Nothing is signed with it any more.
    Retired,
}

/// What lines are put in order by.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Sort {
    /// What they are for, then their names.
    #[default]
    Kind,
    /// Their names.
    Name,
    /// Their ends, the first one first; what has none comes last.
    End,
}

impl Wanted {
    /// Whether a line is.
    fn is(&self, line: &Line<'_>, now: Timestamp) -> bool {
        let standing = match (line.state, line.mark) {
            (State::Retired, _) => Standing::Retired,
            (_, Mark::Expired) => Standing::Expired,
            (_, Mark::Due) => Standing::FallsDue,
            (_, Mark::AtRisk) => Standing::NoCopy,
            _ => Standing::InUse,
        };
        let ends_soon = |days: u32| {
            let until = now.checked_add(SignedDuration::from_hours(i64::from(days) * 24));
            let until = until.unwrap_or(Timestamp::MAX);
            standing != Standing::Retired && line.not_after.is_some_and(|end| end <= until)
        };
        self.expiring.is_none_or(ends_soon)
            && (self.kinds.is_empty() || self.kinds.contains(&line.kind))
            && self.app.as_ref().is_none_or(|app| line.apps.contains(&app.as_str()))
            && self.state.is_none_or(|wanted| wanted == standing)
    }

    fn put_in_order(&self, lines: &mut [Line<'_>]) {
        match self.sort {
            Sort::Kind => {}
            Sort::Name => lines.sort_by(|one, other| one.name.cmp(other.name)),
            Sort::End => lines.sort_by_key(|line| line.not_after.unwrap_or(Timestamp::MAX)),
        }
        match self.group {
            Some(Group::App) => lines.sort_by(|one, other| {
                let key = |line: &Line<'_>| (line.apps.len() != 1, line.apps.is_empty());
                key(one).cmp(&key(other)).then_with(|| one.apps.cmp(&other.apps))
            }),
            Some(Group::Mark) => lines.sort_by_key(|line| (line.state == State::Retired, line.mark)),
            Some(Group::Kind) | None => {}
        }
    }
}

/// What the cabinet holds.
#[derive(Debug, Serialize, JsonSchema)]
pub struct InventoryReport<'a> {
    /// The lines that are wanted: keys by what they are for, then everything else by name, unless another order was asked for.
    pub items: Vec<Line<'a>>,
    /// What they are grouped by; those of a group stand together.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub group: Option<Group>,
    /// How many lines there are, whichever are wanted.
    pub total: usize,
    /// The time of the look.
    pub at: Timestamp,
    /// Whether every keystore's keys are in a backup.
    pub backed_up: bool,
    /// The last backup that was made and proved.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last_backup: Option<LastBackup>,
    /// Days within which something falls due.
    pub due_days: u32,
}

/// One line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Line<'a> {
    /// The item's name.
    pub name: &'a str,
    /// The word for its kind: `signing key`, `device`, …
    pub kind: &'static str,
    /// Its alias, for a key in a keystore.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub alias: Option<&'a str>,
    /// The certificate's subject, a profile's title, an API key's id, what people call a device or a date.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub subject: Option<&'a str>,
    /// Kind and size of a key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub algorithm: Option<&'a str>,
    /// The apps it is for.
    pub apps: Vec<&'a str>,
    /// Until when it is good.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
    /// SHA-256 of the certificate, of a profile's file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sha256: Option<&'a str>,
    /// The certificate's serial number, hexadecimal: what tells identities apart that look alike.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub serial: Option<&'a str>,
    /// Where an identity stands between key and certificate.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wholeness: Option<Wholeness>,
    /// Who has an identity's private key, where it is somebody else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub held_by: Option<&'a str>,
    /// When an identity's certificate was revoked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub revoked: Option<Timestamp>,
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
}

impl Line<'_> {
    /// Whether it is an identity that signs, and nothing names it yet.
    pub fn is_idle(&self) -> bool {
        let signs = [NineKey::Development, NineKey::Distribution].iter().any(|key| key.word() == self.kind);
        signs && self.wholeness == Some(Wholeness::Whole) && self.profiles == 0 && self.releases == 0
    }
}

/// Why it could not be told.
#[derive(Debug, Error)]
pub enum InventoryError {
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The project file is there and of no use.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// Neither the project file nor the cabinet knows the app.
    #[error("the project file has no app called {0}, and nothing in the cabinet is for one")]
    UnknownApp(String),
}

/// What a list is told from: looked at once, and freed when the list is done with.
///
/// # Errors
/// [`OpenError`].
pub fn look(ctx: &Ctx<'_>) -> Result<Look, OpenError> {
    ctx.look_for_a_list()
}

/// Lists the cabinet. Releases have a list of their own.
///
/// # Errors
/// [`InventoryError`].
pub fn inventory<'a>(
    ctx: &Ctx<'_>,
    look: &'a Look,
    wanted: &Wanted,
) -> Result<InventoryReport<'a>, InventoryError> {
    let (all, last_backup) = (look.inventory.as_ref(), look.last_backup);
    let project = ctx.project_if_any()?.map(|file| file.project);
    let is_known = |app: &String| project.as_ref().is_some_and(|project| project.app(app).is_some());
    let policy = project.as_ref().map_or_else(Policy::default, |project| project.policy.clone());
    let (mut rows, telling) = rows_of(all);
    let has_no_copy = |item: &&&Item| match &item.facts {
        Facts::Keystore(facts) => last_backup.is_none_or(|backup| !backup.has_keys(facts, all)),
        _ => false,
    };
    let tell = || {
        let at_risk: HashSet<&ItemId> = telling.iter().filter(has_no_copy).map(|item| &item.id).collect();
        (at_risk, Uses::of(&telling))
    };
    let (_, (at_risk, uses)) = rayon::join(|| rows.par_sort_unstable_by(Row::order), tell);
    let (backed_up, due_days) = (at_risk.is_empty(), policy.due_days);
    let teller = Teller { all, uses, at_risk, policy, now: ctx.env.now };
    let (now, total) = (ctx.env.now, rows.len());
    // as many lines as rows go straight into their places; what is not wanted is taken out afterwards
    let mut items: Vec<Line<'a>> = rows.par_iter().map(|row| teller.line(row)).collect();
    items.retain(|line| wanted.is(line, now));
    if let Some(app) = wanted.app.as_ref().filter(|app| items.is_empty() && !is_known(app)) {
        return Err(InventoryError::UnknownApp(app.clone()));
    }
    wanted.put_in_order(&mut items);
    let group = wanted.group;
    Ok(InventoryReport { items, group, total, at: now, backed_up, last_backup, due_days })
}

/// What a line will be of, with the place that it takes: keys by what they are for, then everything else, by name.
struct Row<'a> {
    key: Option<NineKey>,
    item: &'a Item,
    /// The first bytes of the name: most names differ there, and are not looked up to be compared.
    name: [u8; 16],
    /// The key in a keystore, and as what.
    entry: Option<(&'a KeystoreEntry, Role)>,
}

impl<'a> Row<'a> {
    fn new(key: Option<NineKey>, item: &'a Item) -> Self {
        let mut name = [0; 16];
        name.iter_mut().zip(item.name.bytes()).for_each(|(to, byte)| *to = byte);
        Row { key, item, name, entry: None }
    }

    fn order(&self, other: &Self) -> Ordering {
        let alias = |row: &Self| row.entry.map(|(entry, _)| entry.alias.as_str());
        let by_key = (self.key.is_none(), self.key).cmp(&(other.key.is_none(), other.key));
        by_key
            .then_with(|| self.name.cmp(&other.name))
            .then_with(|| self.item.name.cmp(&other.item.name))
            .then_with(|| alias(self).cmp(&alias(other)))
            .then_with(|| self.item.id.cmp(&other.item.id))
    }
}

/// What the lines will be of, and the items that others are told by: gone through once, on all cores.
fn rows_of(all: &Inventory) -> (Vec<Row<'_>>, Vec<&Item>) {
    let items: Vec<&Item> = all.iter().collect();
    let parts: Vec<_> = items
        .par_chunks(1_024)
        .map(|some| {
            let mut rows = Vec::with_capacity(some.len());
            some.iter().for_each(|item| add_rows(item, &mut rows));
            let tells = |item: &&Item| {
                matches!(item.facts, Facts::Keystore(_) | Facts::Profile(_) | Facts::Release(_))
            };
            let telling: Vec<&Item> = some.iter().copied().filter(tells).collect();
            (rows, telling)
        })
        .collect();
    let count: usize = parts.iter().map(|(rows, _)| rows.len()).sum();
    let (mut rows, mut telling) = (Vec::with_capacity(count), Vec::new());
    for (mut some, mut tell) in parts {
        rows.append(&mut some);
        telling.append(&mut tell);
    }
    (rows, telling)
}

fn add_rows<'a>(item: &'a Item, into: &mut Vec<Row<'a>>) {
    match &item.facts {
        // keys and certificates are told with what they are in; releases have their own list
        Facts::Key(_)
        | Facts::Certificate(_)
        | Facts::Release(_)
        | Facts::HandOut(_)
        | Facts::Rotation(_) => {}
        Facts::Keystore(facts) => {
            for entry in &facts.entries {
                // a key that signs one app and uploads another is two of the nine
                into.extend(
                    entry.roles().into_iter().map(|role| Row {
                        entry: Some((entry, role)),
                        ..Row::new(Some(role.nine_key()), item)
                    }),
                );
            }
        }
        Facts::Profile(_) | Facts::Identity(_) | Facts::ApiKey(_) | Facts::Device(_) | Facts::Date(_) => {
            into.push(Row::new(item.facts.nine_key(), item));
        }
    }
}

/// What lines are told from.
struct Teller<'a> {
    all: &'a Inventory,
    uses: Uses<'a>,
    /// The keystores with a key that is in no backup.
    at_risk: HashSet<&'a ItemId>,
    policy: Policy,
    now: Timestamp,
}

impl<'a> Teller<'a> {
    fn line(&self, row: &Row<'a>) -> Line<'a> {
        let (all, item) = (self.all, row.item);
        let line = Line {
            name: &item.name,
            kind: row.key.map_or_else(|| item.facts.word(), NineKey::word),
            alias: None,
            subject: None,
            algorithm: None,
            apps: Vec::new(),
            not_after: None,
            sha256: None,
            serial: None,
            wholeness: None,
            held_by: None,
            revoked: None,
            profiles: 0,
            releases: 0,
            state: item.state,
            generation: item.generation,
            mark: Mark::InUse,
        };
        let line = match (&item.facts, row.entry) {
            (_, Some((entry, role))) => {
                let certificate = certificate_of(all, &entry.certificate);
                Line {
                    alias: Some(&entry.alias),
                    algorithm: algorithm_of(all, &entry.key),
                    apps: entry.apps_as(role),
                    not_after: certificate.map(|c| c.not_after),
                    sha256: certificate.map(|c| c.fingerprint.as_str()),
                    subject: certificate.map(|c| c.subject.as_str()),
                    ..line
                }
            }
            (Facts::Profile(profile), _) => Line {
                not_after: Some(profile.not_after),
                sha256: Some(&profile.fingerprint),
                subject: Some(&profile.title),
                apps: words(&profile.apps),
                ..line
            },
            (Facts::Identity(identity), _) => identity_line(all, identity, &self.uses, line),
            (Facts::Date(date), _) => {
                Line { not_after: Some(date.on), apps: words(&date.apps), subject: Some(&date.title), ..line }
            }
            (Facts::Device(device), _) => Line { subject: Some(&device.title), ..line },
            (Facts::ApiKey(key), _) => {
                let algorithm = key.key.as_ref().and_then(|key| algorithm_of(all, key));
                let subject = Some(key.label.as_deref().unwrap_or(&key.key_id));
                Line { algorithm, apps: words(&key.apps), subject, ..line }
            }
            _ => line,
        };
        let mark = line.not_after.map_or(Mark::InUse, |until| date_mark(until, self.now, &self.policy));
        let at_risk = row.key == Some(NineKey::Signing) && self.at_risk.contains(&item.id);
        Line { mark: if at_risk && mark != Mark::Expired { Mark::AtRisk } else { mark }, ..line }
    }
}

fn words(all: &[String]) -> Vec<&str> {
    all.iter().map(String::as_str).collect()
}

fn identity_line<'a>(
    all: &'a Inventory,
    identity: &'a IdentityFacts,
    uses: &Uses<'_>,
    line: Line<'a>,
) -> Line<'a> {
    let certificate = identity.certificate.as_ref().and_then(|id| certificate_of(all, id));
    Line {
        algorithm: identity.key.as_ref().and_then(|key| algorithm_of(all, key)),
        apps: words(&identity.apps),
        not_after: certificate.map(|c| c.not_after),
        sha256: certificate.map(|c| c.fingerprint.as_str()),
        serial: certificate.map(|c| c.serial.as_str()),
        subject: certificate.map(|c| c.subject.as_str()),
        wholeness: Some(identity.wholeness()),
        held_by: identity.held_by.as_deref(),
        revoked: identity.revoked,
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
    fn of(items: &[&'a Item]) -> Self {
        let mut uses = Uses::default();
        for item in items.iter().filter(|item| item.state == State::Active) {
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

fn algorithm_of<'a>(all: &'a Inventory, id: &ItemId) -> Option<&'a str> {
    match &all.get(id)?.facts {
        Facts::Key(key) => Some(&key.algorithm),
        _ => None,
    }
}
