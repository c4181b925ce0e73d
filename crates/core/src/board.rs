//! The board: one row an app, one column a key, and what to do first.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use jiff::Timestamp;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

use crate::findings::Mend;
use crate::ios::setup::signs_for;
use crate::model::{
    App, Destination, Facts, Inventory, Item, ItemId, KeystoreEntry, LastBackup, NineKey, Policy,
    ProfileFacts, Project, Role, State, Wholeness,
};

/// How a cell of the board stands, the most pressing first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Mark {
    /// Its validity has ended.
    Expired,
    /// It cannot be replaced and has no backup.
    AtRisk,
    /// It ends within the policy's days.
    Due,
    /// It is needed and not there.
    Missing,
    /// In use.
    InUse,
    /// Not needed.
    NotNeeded,
}

/// One cell.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Cell {
    /// Which key.
    pub key: NineKey,
    /// How it stands.
    pub mark: Mark,
    /// The item behind it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// Until when it is good.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
    /// When it was asked for, while it is waited for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub asked_at: Option<Timestamp>,
}

/// One app.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Row {
    /// Its name in the project file; empty for the keys of no app.
    pub app: String,
    /// What people call it.
    pub title: String,
    /// Nine cells, in order.
    pub cells: Vec<Cell>,
    /// Where its iOS builds go first.
    #[serde(skip)]
    pub first: Destination,
}

/// Something to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Task<M = Mend> {
    /// Why.
    pub mark: Mark,
    /// What about.
    pub text: String,
    /// What mends it; in an answer the command, as arguments behind the program's name.
    pub next: M,
}

/// The state of everything in one look.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Board<M = Mend> {
    /// What it is headed with.
    pub title: String,
    /// The time it stands for.
    pub at: Timestamp,
    /// Days within which something falls due.
    pub due_days: u32,
    /// The apps, by title; keys that are for no app yet have a row of their own, the last.
    pub rows: Vec<Row>,
    /// What to do, the most pressing first.
    pub tasks: Vec<Task<M>>,
}

impl Board {
    /// The same with what is to be done said in another way.
    pub fn map<N>(self, mut say: impl FnMut(Mend) -> N) -> Board<N> {
        let Board { title, at, due_days, rows, tasks } = self;
        let said = |Task { mark, text, next }| Task { mark, text, next: say(next) };
        Board { title, at, due_days, rows, tasks: tasks.into_iter().map(said).collect() }
    }
}

/// What the board is drawn from.
pub struct BoardView<'a> {
    /// The apps and the policy.
    pub project: &'a Project,
    /// What the cabinet holds.
    pub inventory: &'a Inventory,
    /// The last backup.
    pub last_backup: Option<LastBackup>,
    /// The time it stands for.
    pub now: Timestamp,
}

/// What is looked at for every app, picked out of the inventory once.
struct Picked<'a> {
    view: &'a BoardView<'a>,
    /// The entries of keystores in use.
    entries: Vec<(&'a Item, &'a KeystoreEntry)>,
    /// Everything else in use that is one of the nine by itself, by what it is, but for profiles.
    others: BTreeMap<NineKey, Vec<&'a Item>>,
    /// The profiles in use, by app.
    profiles: HashMap<&'a str, Vec<(&'a Item, &'a ProfileFacts)>>,
}

impl<'a> Picked<'a> {
    fn of(view: &'a BoardView<'a>) -> Self {
        let keystores =
            view.inventory.keystores().into_iter().filter(|(item, _)| item.state == State::Active);
        let entries =
            keystores.flat_map(|(item, facts)| facts.entries.iter().map(move |entry| (item, entry)));
        let mut picked =
            Picked { view, entries: entries.collect(), others: BTreeMap::new(), profiles: HashMap::new() };
        for item in view.inventory.iter().filter(|item| item.state == State::Active) {
            match (&item.facts, item.facts.nine_key()) {
                (Facts::Profile(facts), _) => {
                    for app in &facts.apps {
                        picked.profiles.entry(app).or_default().push((item, facts));
                    }
                }
                (_, Some(key)) => picked.others.entry(key).or_default().push(item),
                (_, None) => {}
            }
        }
        picked
    }

    /// What is one of the nine by itself, of a kind, and serves an app.
    fn serving(&self, key: NineKey, name: &str, app: &App) -> impl Iterator<Item = &'a Item> {
        let all = self.others.get(&key).map(Vec::as_slice).unwrap_or_default();
        all.iter().copied().filter(move |item| serves(&item.facts, name, app))
    }
}

/// Draws the board.
pub fn board(view: &BoardView<'_>) -> Board {
    let picked = Picked::of(view);
    let apps: Vec<(&str, &App)> = view.project.apps.iter().map(|(name, app)| (name.as_str(), app)).collect();
    let mut rows: Vec<Row> = apps.into_par_iter().map(|(name, app)| row(&picked, name, app)).collect();
    rows.sort_by(|a, b| a.title.cmp(&b.title));
    rows.extend(row_of_no_app(view));
    Board {
        title: view.project.title.clone(),
        at: view.now,
        due_days: view.project.policy.due_days,
        tasks: tasks(view, &rows),
        rows,
    }
}

fn row(picked: &Picked<'_>, name: &str, app: &App) -> Row {
    let cells = NineKey::ALL.iter().map(|key| cell(picked, *key, name, app)).collect();
    let first = app.ios.as_ref().and_then(|ios| ios.destinations.first().copied());
    Row { app: name.into(), title: app.title.clone(), cells, first: first.unwrap_or(Destination::Store) }
}

/// The keys in use that are for no app of any project: they are easily forgotten.
fn row_of_no_app(view: &BoardView<'_>) -> Option<Row> {
    let keystores = view.inventory.keystores().into_iter().filter(|(item, _)| item.state == State::Active);
    let mut alone: Vec<(NineKey, Standing)> = Vec::new();
    for (item, facts) in keystores {
        for entry in facts.entries.iter().filter(|entry| entry.uses.is_empty()) {
            let state = android_state(view, item, entry, entry.role);
            alone.push((entry.role.nine_key(), state));
        }
    }
    if alone.is_empty() {
        return None;
    }
    let cells = NineKey::ALL.iter().map(|key| {
        let own = alone.iter().filter(|(of, _)| of == key).map(|(_, state)| state);
        match own.min_by_key(|(mark, ..)| *mark).cloned() {
            Some((mark, item, not_after)) => {
                Cell { key: *key, mark, item: Some(item), not_after, asked_at: None }
            }
            None if *key == NineKey::Cabinet => cabinet_cell(view),
            None => Cell { key: *key, mark: Mark::NotNeeded, item: None, not_after: None, asked_at: None },
        }
    });
    Some(Row {
        app: String::new(),
        title: "no app yet".into(),
        cells: cells.collect(),
        first: Destination::Store,
    })
}

fn cell(picked: &Picked<'_>, key: NineKey, name: &str, app: &App) -> Cell {
    let view = picked.view;
    let states = match key {
        NineKey::Signing => android_states(picked, Role::Signing, name),
        NineKey::Upload => android_states(picked, Role::Upload, name),
        NineKey::Cabinet => return cabinet_cell(view),
        NineKey::Development | NineKey::Distribution | NineKey::Push => {
            identity_state(picked, key, name, app)
        }
        NineKey::Profile => profile_states(picked, name),
        NineKey::StoreApi | NineKey::Service => other_states(picked, key, name, app),
    };
    let needed = is_needed(key, app);
    match states.into_iter().min_by_key(|(mark, ..)| *mark) {
        Some((mark, item, until)) => {
            let mut known = picked.others.get(&key).into_iter().flatten();
            let waits = known.find(|one| one.name == item).filter(|one| whose_turn(one).is_some());
            let asked_at = waits.filter(|_| mark == Mark::Missing).map(|item| item.created);
            Cell { key, mark, item: Some(item), not_after: until, asked_at }
        }
        None => Cell {
            key,
            mark: match () {
                () if needed => Mark::Missing,
                () if key == NineKey::Signing && is_held_by_a_store(app) => Mark::InUse,
                () => Mark::NotNeeded,
            },
            item: None,
            not_after: None,
            asked_at: None,
        },
    }
}

/// Whether an app cannot go where it goes without that key. What can be bought or made again is missed only where something
/// needs it.
fn is_needed(key: NineKey, app: &App) -> bool {
    let goes = |wanted: fn(Destination) -> bool| {
        app.ios.as_ref().is_some_and(|ios| {
            // nothing said means the store
            (ios.destinations.is_empty() && wanted(Destination::Store))
                || ios.destinations.iter().any(|to| wanted(*to))
        })
    };
    match key {
        // a store that holds the signing key has it, wherever it came from
        NineKey::Signing => app.android.as_ref().is_some_and(|android| android.store_keys.is_none()),
        NineKey::Development => goes(|to| to == Destination::Development),
        NineKey::Distribution => goes(Destination::leaves_the_house),
        NineKey::Profile => app.ios.is_some(),
        NineKey::Upload | NineKey::Push | NineKey::StoreApi | NineKey::Service | NineKey::Cabinet => false,
    }
}

fn is_held_by_a_store(app: &App) -> bool {
    app.android.as_ref().is_some_and(|android| android.store_keys.is_some())
}

fn cabinet_cell(view: &BoardView<'_>) -> Cell {
    let at_risk = view.inventory.iter().next().is_some() && view.last_backup.is_none();
    let mark = if at_risk { Mark::AtRisk } else { Mark::InUse };
    Cell { key: NineKey::Cabinet, mark, item: None, not_after: None, asked_at: None }
}

/// How an item stands: its mark, its name, its end.
type Standing = (Mark, String, Option<Timestamp>);

fn android_states(picked: &Picked<'_>, role: Role, name: &str) -> Vec<Standing> {
    let own = picked.entries.iter().filter(|(_, entry)| entry.is_for(name, role));
    own.map(|(keystore, entry)| android_state(picked.view, keystore, entry, role)).collect()
}

fn end_of(inventory: &Inventory, certificate: &ItemId) -> Option<Timestamp> {
    inventory.certificate(certificate).map(|facts| facts.not_after)
}

fn android_state(view: &BoardView<'_>, keystore: &Item, entry: &KeystoreEntry, role: Role) -> Standing {
    let until = end_of(view.inventory, &entry.certificate);
    let backed_up = view.last_backup.is_some_and(|backup| backup.has_key(entry, view.inventory));
    let mark = match until.map(|until| date_mark(until, view.now, &view.project.policy)) {
        Some(Mark::Expired) => Mark::Expired,
        _ if !backed_up && role == Role::Signing => Mark::AtRisk,
        Some(mark) => mark,
        None => Mark::InUse,
    };
    (mark, keystore.name.clone(), until)
}

/// The best identity of a kind: others of it may have ended, or lack their keys, and nothing hangs on them.
fn identity_state(picked: &Picked<'_>, key: NineKey, name: &str, app: &App) -> Vec<Standing> {
    let view = picked.view;
    let mut all: Vec<Standing> = picked
        .serving(key, name, app)
        .filter_map(|item| {
            let Facts::Identity(identity) = &item.facts else { return None };
            let until = identity.certificate.as_ref().and_then(|id| end_of(view.inventory, id));
            let mark = match identity.wholeness() {
                Wholeness::Waiting | Wholeness::WithoutKey => Mark::Missing,
                _ if identity.revoked.is_some() => Mark::Expired,
                Wholeness::Whole | Wholeness::HeldElsewhere => mark_of(view, until),
            };
            Some((mark, item.name.clone(), until))
        })
        .collect();
    all.sort_by(|a, b| (b.0, b.2, &a.1).cmp(&(a.0, a.2, &b.1)));
    all.truncate(1);
    all
}

/// The best profile of each kind and app id that an app has.
fn profile_states(picked: &Picked<'_>, name: &str) -> Vec<Standing> {
    let mut best: BTreeMap<(Destination, &str), Standing> = BTreeMap::new();
    for (item, profile) in picked.profiles.get(name).into_iter().flatten() {
        let mark = mark_of(picked.view, Some(profile.not_after));
        let own = (mark, item.name.clone(), Some(profile.not_after));
        let known = best.entry((profile.destination, &profile.app_id)).or_insert_with(|| own.clone());
        if (own.0, own.2) > (known.0, known.2) {
            *known = own;
        }
    }
    best.into_values().collect()
}

fn mark_of(view: &BoardView<'_>, until: Option<Timestamp>) -> Mark {
    until.map_or(Mark::InUse, |until| date_mark(until, view.now, &view.project.policy))
}

/// Keys that make tokens. One without apps of its own is for all of its side.
fn other_states(picked: &Picked<'_>, key: NineKey, name: &str, app: &App) -> Vec<Standing> {
    let mut out: Vec<Standing> = picked
        .serving(key, name, app)
        .map(|item| {
            let waits = matches!(&item.facts, Facts::ApiKey(key) if key.asked_of.is_some());
            (if waits { Mark::Missing } else { Mark::InUse }, item.name.clone(), None)
        })
        .collect();
    // one that is waited for is no gap where another is in use
    if out.iter().any(|(mark, ..)| *mark == Mark::InUse) {
        out.retain(|(mark, ..)| *mark == Mark::InUse);
    }
    out.sort_by(|a, b| a.1.cmp(&b.1));
    out
}

/// Something that was asked for and has not come yet.
struct Waiting<'a> {
    item: &'a Item,
    kind: NineKey,
    /// Whose turn it is.
    whose: &'a str,
}

/// Whose turn it is, of something that was asked for and has not come yet.
fn whose_turn(item: &Item) -> Option<&str> {
    match &item.facts {
        Facts::Identity(identity) if identity.wholeness() == Wholeness::Waiting => Some("the portal"),
        Facts::ApiKey(key) => key.asked_of.as_deref(),
        _ => None,
    }
}

/// Everything that was asked for and has not come yet, by name.
fn waiting<'a>(view: &BoardView<'a>) -> Vec<Waiting<'a>> {
    let active = view.inventory.iter().filter(|item| item.state == State::Active);
    let mut all: Vec<Waiting<'a>> = active
        .filter_map(|item| Some(Waiting { item, kind: item.facts.nine_key()?, whose: whose_turn(item)? }))
        .collect();
    all.sort_by(|a, b| a.item.name.cmp(&b.item.name));
    all
}

/// What is waited for, since when, and whose turn it is.
fn waits(view: &BoardView<'_>, one: &Waiting<'_>) -> Task {
    let days = view.now.duration_since(one.item.created).as_hours().max(0) / 24;
    let since = if days == 0 { "today".to_owned() } else { format!("{days} d ago") };
    let (name, day) = (&one.item.name, one.item.created.strftime("%-d %b %Y"));
    let text =
        format!("{name} ({}) was asked for {day}, {since}: the turn of {}", one.kind.word(), one.whose);
    let next = match one.kind {
        NineKey::StoreApi | NineKey::Service => Mend::ImportApiKey { name: name.clone() },
        _ => Mend::AcceptCertificate,
    };
    Task { mark: Mark::Missing, text, next }
}

fn serves(facts: &Facts, name: &str, app: &App) -> bool {
    let (apps, side) = match facts {
        Facts::Identity(identity) => (&identity.apps, app.ios.is_some()),
        Facts::Profile(profile) => (&profile.apps, false),
        Facts::ApiKey(key) => {
            let side = if key.service.nine_key() == NineKey::StoreApi {
                app.ios.is_some()
            } else {
                app.android.is_some()
            };
            (&key.apps, side)
        }
        _ => return false,
    };
    if apps.is_empty() { side } else { apps.iter().any(|one| one == name) }
}

/// Expired, due or in use, by a date alone.
pub fn date_mark(until: Timestamp, now: Timestamp, policy: &Policy) -> Mark {
    let days = (until.as_second() - now.as_second()).div_euclid(86_400);
    if until < now {
        Mark::Expired
    } else if days < i64::from(policy.due_days) {
        Mark::Due
    } else {
        Mark::InUse
    }
}

/// What brings an app the first key of a kind.
fn first(key: NineKey, row: &Row) -> Mend {
    match key {
        NineKey::Development | NineKey::Distribution => Mend::RequestIdentity { kind: key, app: None },
        NineKey::Push => Mend::RequestIdentity { kind: key, app: Some(row.app.clone()) },
        NineKey::Profile => Mend::Prepare { app: row.app.clone(), destination: row.first },
        _ => Mend::CreateKey { app: row.app.clone() },
    }
}

/// What brings the successor of a key.
fn successor(view: &BoardView<'_>, key: NineKey, row: &Row, item: &str) -> Mend {
    let found = view.inventory.find(item).ok();
    let whole = |purpose: NineKey| {
        view.inventory.iter().any(|other| {
            other.state == State::Active
                && matches!(&other.facts, Facts::Identity(own)
                    if own.purpose.nine_key() == purpose && own.wholeness() == Wholeness::Whole)
        })
    };
    match found.map(|item| &item.facts) {
        Some(Facts::Identity(own)) if own.wholeness() == Wholeness::Whole => {
            Mend::Rotate { item: item.into() }
        }
        Some(Facts::Profile(own)) if whole(signs_for(own.destination)) => Mend::Rotate { item: item.into() },
        Some(Facts::Profile(own)) => Mend::Prepare { app: row.app.clone(), destination: own.destination },
        Some(Facts::Identity(_)) => first(key, row),
        _ if key == NineKey::Upload => Mend::Rotate { item: item.into() },
        _ => Mend::Show { item: item.to_owned() },
    }
}

/// The profiles in use that name an identity's certificate.
fn profiles_with<'a>(view: &'a BoardView<'_>, identity: &str) -> Vec<&'a str> {
    let Some(Facts::Identity(own)) = view.inventory.find(identity).ok().map(|item| &item.facts) else {
        return Vec::new();
    };
    let Some(certificate) = own.certificate else { return Vec::new() };
    let active = view.inventory.iter().filter(|item| item.state == State::Active);
    let names = active.filter(
        |item| matches!(&item.facts, Facts::Profile(profile) if profile.certificates.contains(&certificate)),
    );
    names.map(|item| item.name.as_str()).collect()
}

/// Dates of no key that fall due, or are over.
fn dates(view: &BoardView<'_>) -> Vec<Task> {
    let mut out: Vec<(Timestamp, Task)> = Vec::new();
    for item in view.inventory.iter().filter(|item| item.state == State::Active) {
        let Facts::Date(date) = &item.facts else { continue };
        let mark = date_mark(date.on, view.now, &view.project.policy);
        if matches!(mark, Mark::Expired | Mark::Due) {
            let text = format!("{}, {} ({})", date.title, date.on.strftime("%-d %b %Y"), date.how_often());
            out.push((date.on, Task { mark, text, next: Mend::DateDone { date: item.name.clone() } }));
        }
    }
    out.sort_by(|(a, one), (b, other)| (a, &one.text).cmp(&(b, &other.text)));
    out.into_iter().map(|(_, task)| task).collect()
}

/// Rotations that were begun and are not over.
fn under_way(view: &BoardView<'_>) -> Vec<(String, Task)> {
    let mut out = Vec::new();
    for item in view.inventory.iter() {
        let Facts::Rotation(facts) = &item.facts else { continue };
        let Some(index) = facts.next().filter(|_| facts.is_open()) else { continue };
        let (at, of, what) = (index + 1, facts.steps.len(), facts.rotates.join(", "));
        let text = format!("the rotation of {what} stands at step {at} of {of}");
        let task = Task { mark: Mark::Due, text, next: Mend::Resume { rotation: item.name.clone() } };
        out.extend(facts.items.keys().map(|name| (name.clone(), task.clone())));
    }
    out.sort_by(|(a, one), (b, other)| (&one.text, a).cmp(&(&other.text, b)));
    out
}

/// What is said of something that falls due, or has ended: of an identity how many profiles it takes with it.
fn falls(view: &BoardView<'_>, key: NineKey, item: &str) -> String {
    let word = key.word();
    match profiles_with(view, item).len() {
        0 => format!("{item} ({word})"),
        1 => format!("{item} ({word}; 1 profile)"),
        many => format!("{item} ({word}; {many} profiles)"),
    }
}

fn tasks(view: &BoardView<'_>, rows: &[Row]) -> Vec<Task> {
    let mut out: Vec<Task> = waiting(view).iter().map(|one| waits(view, one)).collect();
    out.extend(dates(view));
    let rotations = under_way(view);
    let in_rotation = |item: &str| rotations.iter().any(|(name, _)| name == item);
    for (_, task) in &rotations {
        if !out.contains(task) {
            out.push(task.clone());
        }
    }
    // what falls with an identity is made again with it
    let presses =
        |cell: &&Cell| cell.key != NineKey::Profile && matches!(cell.mark, Mark::Expired | Mark::Due);
    let identities = rows.iter().flat_map(|row| row.cells.iter()).filter(presses);
    let pressing: BTreeSet<&str> = identities.filter_map(|cell| cell.item.as_deref()).collect();
    let with_them: BTreeSet<&str> = pressing.iter().flat_map(|item| profiles_with(view, item)).collect();
    for (row, cell) in rows.iter().flat_map(|row| row.cells.iter().map(move |cell| (row, cell))) {
        let word = cell.key.word();
        let (text, next) = match (cell.mark, &cell.item) {
            _ if cell.asked_at.is_some() => continue,
            (Mark::Expired | Mark::Due, Some(item))
                if in_rotation(item) || with_them.contains(item.as_str()) =>
            {
                continue;
            }
            (Mark::Expired | Mark::Due, Some(item)) => {
                (falls(view, cell.key, item), successor(view, cell.key, row, item))
            }
            (Mark::AtRisk, Some(item)) => (format!("{item} ({word})"), Mend::Backup),
            (Mark::Missing, Some(item)) => {
                (format!("{item} ({word}) is not whole"), Mend::Show { item: item.clone() })
            }
            // one serves all apps of a team
            (Mark::Missing, None) if matches!(cell.key, NineKey::Development | NineKey::Distribution) => {
                (format!("there is no {word}"), first(cell.key, row))
            }
            (Mark::Missing, None) => (format!("{} has no {word}", row.title), first(cell.key, row)),
            _ => continue,
        };
        let task = Task { mark: cell.mark, text, next };
        if !out.contains(&task) {
            out.push(task);
        }
    }
    out.sort_by_key(|task| task.mark);
    out
}
