//! Drafts of rotations: what takes the place of what, in which order, and why.
//!
//! A draft follows from the cabinet and the project alone, so that it can be made again when it is carried out: what differs
//! then is what changed meanwhile. Each kind of key says in a file of its own what has to happen; steps that several of them
//! need are taken once. Nothing is retired before its successor has signed and passed a check.

mod apikey;
mod identity;
mod keystore;
mod profile;

use std::collections::BTreeSet;

use jiff::{SignedDuration, Timestamp};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::links;
use crate::model::{
    Does, Facts, Inventory, Item, ItemId, NineKey, OldKeyMay, Project, Role, State, free_name,
};

/// Name and version of a draft's form.
pub const SCHEMA: &str = "ninekeys.draft/1";

/// What the ninth key is called in an order: it is no item.
pub const CABINET: &str = "cabinet";

/// What is to be replaced.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Order {
    /// Items, by name.
    pub rotates: Vec<String>,
    /// Whether the old certificates are revoked at the end; else they run out by themselves.
    pub revoke: bool,
    /// How a signing key hands over.
    pub hand_over: HandOver,
}

/// How a signing key hands over to its successor.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct HandOver {
    /// The platform level from which on the new key counts; 28 is every device that reads a proof.
    pub from_sdk: u32,
    /// What the old key may still do on devices.
    pub old_key_may: Vec<OldKeyMay>,
}

impl Default for HandOver {
    fn default() -> Self {
        HandOver { from_sdk: USUAL_FROM_SDK, old_key_may: OldKeyMay::usual() }
    }
}

/// The level from which on a new key counts when nothing is said: those below have readers of the proof that fail on it.
pub const USUAL_FROM_SDK: u32 = 33;

/// A draft of a rotation, as it is written for people to read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Draft {
    /// Name and version of this form.
    pub schema: String,
    /// The identity of the cabinet that it is for.
    pub cabinet: String,
    /// When it was made.
    pub made: Timestamp,
    /// Items that are replaced, by name.
    pub rotates: Vec<String>,
    /// Whether the old certificates are revoked at the end.
    pub revoke: bool,
    /// How a signing key hands over.
    #[serde(default)]
    pub hand_over: HandOver,
    /// What stays valid meanwhile.
    #[serde(default)]
    pub meanwhile: Vec<Meanwhile>,
    /// The items that it goes by, as they were.
    #[serde(default)]
    pub stands: Vec<Stands>,
    /// What will happen, in order.
    #[serde(default)]
    pub step: Vec<Step>,
}

/// One step of a draft.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Step {
    /// Its number, from 1.
    pub number: usize,
    /// What it does.
    #[serde(flatten)]
    pub does: Does,
    /// Why.
    pub why: String,
}

/// Something that is replaced and stays good until then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Meanwhile {
    /// Its name.
    pub item: String,
    /// Until when it is good by itself.
    pub valid_until: Timestamp,
    /// What goes on with it.
    pub means: String,
}

/// An item that a draft goes by, as it was.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Stands {
    /// Its name.
    pub item: String,
    /// Its id.
    pub id: ItemId,
    /// Its revision.
    pub revision: u32,
}

/// What a draft is made from.
#[derive(Clone, Copy)]
pub struct View<'a> {
    /// The apps and the policy.
    pub project: &'a Project,
    /// What the cabinet holds.
    pub inventory: &'a Inventory,
    /// The time that names are made by: that of the draft.
    pub now: Timestamp,
}

/// Why there is no draft.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PlanError {
    /// Nothing has that name.
    #[error(transparent)]
    NotFound(#[from] crate::model::NotFound),
    /// Nothing that could be replaced.
    #[error("{name} is {found}, and nothing takes the place of one")]
    NotRotated {
        /// Its name.
        name: String,
        /// What it is.
        found: String,
    },
    /// It is retired already.
    #[error("{0} is retired, and nothing uses it")]
    Retired(String),
    /// An identity whose key is not here.
    #[error("{name} is not whole: {because}")]
    NotWhole {
        /// Its name.
        name: String,
        /// What is missing.
        because: String,
    },
    /// No app of the project file uses it.
    #[error("no app of the project file uses {0}")]
    NoApp(String),
    /// Nothing falls due.
    #[error("nothing falls due within {0} days")]
    NothingDue(u32),
}

/// When a step comes: what is needed first is made first, and what is old goes last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Phase {
    Keys,
    Certificates,
    Profiles,
    Filed,
    TakeOver,
    Proofs,
    People,
    Withdrawal,
    Retire,
}

/// A plan as it grows.
struct Planner<'a> {
    view: View<'a>,
    revoke: bool,
    hand_over: &'a HandOver,
    steps: Vec<(Phase, Does, String)>,
    meanwhile: Vec<Meanwhile>,
    /// Names that the plan gives to what is made.
    named: BTreeSet<String>,
}

impl<'a> Planner<'a> {
    /// Adds a step, unless another item needs the same.
    fn step(&mut self, phase: Phase, does: Does, why: impl Into<String>) {
        if !self.steps.iter().any(|(_, known, _)| *known == does) {
            self.steps.push((phase, does, why.into()));
        }
    }

    /// A name that neither the cabinet nor the plan has.
    fn name(&mut self, base: &str) -> String {
        let name = free_name(base, |name| {
            self.view.inventory.iter().any(|item| item.name.eq_ignore_ascii_case(name))
                || self.named.contains(&name.to_lowercase())
        });
        self.named.insert(name.to_lowercase());
        name
    }

    /// The year of something that is made now and is good for a year.
    fn next_year(&self) -> i16 {
        self.view.now.to_zoned(jiff::tz::TimeZone::UTC).year() + 1
    }

    fn meanwhile(&mut self, item: &str, valid_until: Timestamp, means: &str) {
        if !self.meanwhile.iter().any(|known| known.item == item) {
            self.meanwhile.push(Meanwhile { item: item.into(), valid_until, means: means.into() });
        }
    }

    /// Whoever was given an item is given what takes its place.
    fn tell(&mut self, item: &Item) {
        let given = self.view.inventory.dependents(&item.id).filter_map(|other| match &other.facts {
            Facts::HandOut(facts) => Some(facts.as_ref()),
            _ => None,
        });
        let mut all: Vec<_> = given.collect();
        all.sort_by(|a, b| (&a.receiver, &a.app, a.destination).cmp(&(&b.receiver, &b.app, b.destination)));
        for facts in all {
            let does = Does::Tell {
                receiver: facts.receiver.clone(),
                app: facts.app.clone(),
                destination: facts.destination,
            };
            self.step(Phase::People, does, format!("{} was given {}", facts.receiver, item.name));
        }
    }

    fn add(&mut self, item: &'a Item) -> Result<(), PlanError> {
        match &item.facts {
            _ if item.state == State::Retired => Err(PlanError::Retired(item.name.clone())),
            Facts::Identity(facts) => identity::add(self, item, facts),
            Facts::Profile(facts) => profile::add(self, item, facts),
            Facts::Keystore(facts) => keystore::add(self, item, facts),
            Facts::ApiKey(facts) => apikey::add(self, item, facts),
            other => Err(PlanError::NotRotated { name: item.name.clone(), found: other.one() }),
        }
    }
}

/// A day as sentences say it.
fn day(at: Timestamp) -> String {
    at.strftime("%-d %b %Y").to_string()
}

/// Drafts the rotation of what was ordered. The same order, cabinet, project and time give the same draft.
///
/// # Errors
/// [`PlanError`].
pub fn draft<'a>(view: View<'a>, order: &'a Order, cabinet: &str) -> Result<Draft, PlanError> {
    let mut items: Vec<&Item> = Vec::new();
    let mut whole = false;
    for wanted in &order.rotates {
        if *wanted == CABINET && view.inventory.iter().all(|item| item.name != CABINET) {
            whole = true;
            continue;
        }
        let item = view.inventory.find(wanted)?;
        if !items.iter().any(|known| known.id == item.id) {
            items.push(item);
        }
    }
    // identities first: a profile that is replaced with one names its successor
    items.sort_by_key(|item| item.facts.nine_key());
    let mut planner = Planner {
        view,
        revoke: order.revoke,
        hand_over: &order.hand_over,
        steps: Vec::new(),
        meanwhile: Vec::new(),
        named: BTreeSet::new(),
    };
    for item in &items {
        planner.add(item)?;
    }
    if whole {
        let why = "whoever had a key of the cabinet opens nothing that is sealed from then on";
        planner.step(Phase::Withdrawal, Does::Reseal, why);
        planner.step(Phase::Withdrawal, Does::BackUp, "a copy from before is opened by what opened it then");
    }
    let Planner { mut steps, meanwhile, .. } = planner;
    steps.sort_by_key(|(phase, ..)| *phase);
    let step =
        |(index, (_, does, why)): (usize, (Phase, Does, String))| Step { number: index + 1, does, why };
    let steps: Vec<Step> = steps.into_iter().enumerate().map(step).collect();
    Ok(Draft {
        schema: SCHEMA.into(),
        cabinet: cabinet.into(),
        made: view.now,
        rotates: items
            .iter()
            .map(|item| item.name.clone())
            .chain(whole.then(|| CABINET.to_owned()))
            .collect(),
        revoke: order.revoke,
        hand_over: order.hand_over.clone(),
        meanwhile,
        stands: stands(view.inventory, &items, &steps),
        step: steps,
    })
}

/// The items that a draft goes by.
fn stands(inventory: &Inventory, items: &[&Item], steps: &[Step]) -> Vec<Stands> {
    let named = steps.iter().flat_map(|step| step.does.goes_by());
    let names = items.iter().map(|item| item.name.as_str()).chain(named);
    let mut out: Vec<Stands> = Vec::new();
    for name in names {
        let Ok(item) = inventory.find(name) else { continue };
        if !out.iter().any(|known| known.id == item.id) {
            out.push(Stands { item: item.name.clone(), id: item.id, revision: item.revision });
        }
    }
    out
}

/// Something that falls due and is not taken into a draft.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Left {
    /// Its name.
    pub item: String,
    /// Why, in a sentence.
    pub because: String,
}

/// What is in use and ends within so many days or has ended: the names for an [`Order`], and what cannot be taken into it.
///
/// # Errors
/// [`PlanError::NothingDue`] when there is neither.
pub fn due(view: View<'_>, days: u32) -> Result<(Vec<String>, Vec<Left>), PlanError> {
    let until = view.now.checked_add(SignedDuration::from_hours(24 * i64::from(days)));
    let until = until.unwrap_or(Timestamp::MAX);
    let is_due = |item: &&Item| {
        item.state == State::Active && ends(view.inventory, item).is_some_and(|end| end < until)
    };
    let mut items: Vec<&Item> = view.inventory.iter().filter(is_due).collect();
    items.sort_by(|a, b| (a.facts.nine_key(), &a.name).cmp(&(b.facts.nine_key(), &b.name)));
    let all: Vec<String> = items.into_iter().map(|item| item.name.clone()).collect();
    let (names, left) = of_those(view, &all);
    if names.is_empty() && left.is_empty() { Err(PlanError::NothingDue(days)) } else { Ok((names, left)) }
}

/// Which of those can be replaced, and why the others cannot.
pub fn of_those(view: View<'_>, all: &[String]) -> (Vec<String>, Vec<Left>) {
    let (mut names, mut left) = (Vec::new(), Vec::new());
    for name in all {
        let order = Order { rotates: vec![name.clone()], ..Order::default() };
        match draft(view, &order, "") {
            Ok(_) => names.push(name.clone()),
            Err(error) => left.push(Left { item: name.clone(), because: error.to_string() }),
        }
    }
    (names, left)
}

/// When something that can be replaced ends, for what has an end.
fn ends(inventory: &Inventory, item: &Item) -> Option<Timestamp> {
    match &item.facts {
        Facts::Certificate(_) => None,
        _ => links::end_of(inventory, item),
    }
}

/// What is other in a draft than in the one that was made of the cabinet as it is now, each a sentence.
pub fn differences(written: &Draft, now: &Draft, inventory: &Inventory) -> Vec<String> {
    let mut out: Vec<String> = Vec::new();
    for was in &written.stands {
        match inventory.get(&was.id) {
            None => out.push(format!("{} is not in the cabinet any more", was.item)),
            Some(item) if item.state == State::Retired => out.push(format!("{} is retired", item.name)),
            Some(item) if item.name != was.item => {
                out.push(format!("{} is called {} now", was.item, item.name));
            }
            Some(item) if item.revision != was.revision => {
                out.push(format!(
                    "{} was changed since (revision {}, and it is {})",
                    was.item, was.revision, item.revision
                ));
            }
            Some(_) => {}
        }
    }
    for new in now.stands.iter().filter(|new| !written.stands.iter().any(|was| was.id == new.id)) {
        out.push(format!("{} has come to it", new.item));
    }
    // other steps follow from other items
    if !out.is_empty() {
        return out;
    }
    let longest = written.step.len().max(now.step.len());
    for index in 0..longest {
        match (written.step.get(index), now.step.get(index)) {
            (Some(was), Some(is)) if was.does == is.does && was.number == is.number => {}
            (Some(was), Some(is)) => {
                out.push(format!(
                    "step {} says \"{}\", and it would be \"{}\"",
                    index + 1,
                    said(&was.does),
                    said(&is.does)
                ));
            }
            (Some(was), None) => out.push(format!("step {} is not needed: {}", index + 1, said(&was.does))),
            (None, Some(is)) => out.push(format!("a step is missing: {}", said(&is.does))),
            (None, None) => {}
        }
    }
    out
}

/// What a step does, in a sentence.
pub fn said(does: &Does) -> String {
    match does {
        Does::MakeIdentity { identity, purpose, .. } => {
            format!("make a key for {identity} ({}) and seal it", purpose.nine_key().word())
        }
        Does::GetCertificate { identity, makes_room: None, .. } => {
            format!("have a certificate issued for {identity}")
        }
        Does::GetCertificate { identity, makes_room: Some(unused), .. } => {
            format!(
                "have a certificate issued for {identity}; if the portal's limit is reached, revoke {unused} first, which nothing uses"
            )
        }
        Does::GetProfile { profile, bundle_id, destination, identity, .. } => {
            format!(
                "have {profile} made, a profile of {bundle_id} for {}, with {identity}",
                destination.phrase()
            )
        }
        Does::MakeKey { keystore, role, .. } => format!("make {keystore}, {}, and seal it", a_key(*role)),
        Does::FileCertificate { keystore, file } => {
            format!("file the certificate of {keystore} with the store ({file}), and wait until it says yes")
        }
        Does::HandOver { keystore, instead_of, from_sdk, .. } => {
            format!("sign the proof that {instead_of} hands over to {keystore}, for SDK {from_sdk} on")
        }
        Does::RegisterFingerprint { app, keystore } => {
            format!("register the fingerprint of {keystore} for {app} wherever the old one was registered")
        }
        Does::MakeApiKey { api_key, instead_of } => {
            format!("make the API key {api_key}, for what {instead_of} is for, and seal it")
        }
        Does::ProveApiKey { api_key } => format!("make a call with {api_key}"),
        Does::WithdrawApiKey { api_key } => format!("withdraw {api_key} where it was issued"),
        Does::Reseal => "seal everything anew under new cabinet keys; the members stay".into(),
        Does::BackUp => "copy the cabinet: older copies open with the old keys".into(),
        Does::TakeOver { keystore, instead_of, .. } => {
            format!("let {keystore} take over what {instead_of} did")
        }
        Does::ProveBuild { app, destination, with } => {
            format!("sign a small build of {app} for {} with {with}, and check it", destination.phrase())
        }
        Does::ProveKey { item } => format!("sign a probe with {item}, and verify it"),
        Does::Tell { receiver, app, destination } => {
            format!("give {receiver} the new material of {app} for {}", destination.phrase())
        }
        Does::ChangeSettings { app, names } => {
            format!("change build settings of {app} that name {}", names.join(", "))
        }
        Does::LookAfter { profile, identity } => {
            format!("see who uses {profile}, and have it made again with {identity}")
        }
        Does::ChangeServer { app, identity } => {
            format!("put {identity} on the server that sends the notifications of {app}")
        }
        Does::Retire { item, successor } => format!("retire {item}; {successor} takes its place"),
        Does::Revoke { item, successor } => {
            format!("revoke the certificate of {item}, and retire it; {successor} takes its place")
        }
    }
}

fn a_key(role: Role) -> String {
    let word = role.nine_key().word();
    let article = if role.nine_key() == NineKey::Upload { "an" } else { "a" };
    format!("{article} {word}")
}
