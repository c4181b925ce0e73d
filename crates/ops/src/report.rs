//! `report`: everything that there is to see, for one page; nothing is unlocked.

use std::collections::BTreeMap;

use jiff::Timestamp;
use ninekeys_cabinet::Look;
use ninekeys_core::board::{Mark, date_mark};
use ninekeys_core::model::{
    Facts, Inventory, Item, ItemId, NineKey, Policy, Project, ReleaseFacts, State, Wholeness,
};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::board::{BoardError, BoardReport, board};
use crate::build::setup::{CheckSetupError, CheckSetupReport, Request, check_setups};
use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;
use crate::timeline::{TimelineError, TimelineReport, timeline};

/// The most rows of the ledger that a page has.
const MOST_RELEASES: usize = 100;
/// How many months its picture has.
const MONTHS: u32 = 12;

/// Everything that there is to see.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ReportReport {
    /// Nine keys × apps, and what to do.
    pub board: BoardReport,
    /// What ends when.
    pub timeline: TimelineReport,
    /// What hangs on what: keys, and below them what would fall with them.
    pub map: Vec<Hangs>,
    /// What is in place and what is not.
    pub findings: CheckSetupReport,
    /// The ledger, the newest first, as far as a page has room.
    pub releases: Vec<ReleaseFacts>,
    /// How many releases there are in all.
    pub all_releases: usize,
    /// How many items are in use.
    pub items: usize,
    /// The time of the look.
    pub at: Timestamp,
}

/// Something, and what would fall with it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Hangs {
    /// Its name.
    pub name: String,
    /// The word for its kind.
    pub kind: &'static str,
    /// Until when it is good.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
    /// How it stands.
    pub mark: Mark,
    /// What hangs on it.
    pub below: Vec<Hangs>,
}

/// Why there is nothing to show.
#[derive(Debug, Error)]
pub enum ReportError {
    /// The board.
    #[error(transparent)]
    Board(#[from] BoardError),
    /// The timeline.
    #[error(transparent)]
    Timeline(#[from] TimelineError),
    /// What is in place.
    #[error(transparent)]
    Check(#[from] CheckSetupError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
}

/// Looks at everything.
///
/// # Errors
/// [`ReportError`].
pub fn report(ctx: &Ctx<'_>) -> Result<ReportReport, ReportError> {
    let file = ctx.project_file()?;
    let Look { inventory, .. } = ctx.look()?;
    let mut releases: Vec<ReleaseFacts> = inventory.releases().into_iter().rev().cloned().collect();
    let all_releases = releases.len();
    releases.truncate(MOST_RELEASES);
    let active = inventory.iter().filter(|item| item.state == State::Active);
    Ok(ReportReport {
        board: board(ctx)?,
        timeline: timeline(ctx, MONTHS)?,
        map: map(&inventory, &file.project, ctx.env.now),
        findings: check_setups(ctx, &Request::All)?,
        releases,
        all_releases,
        items: active.filter(|item| item.facts.nine_key().is_some() || is_keystore(item)).count(),
        at: ctx.env.now,
    })
}

fn is_keystore(item: &Item) -> bool {
    matches!(item.facts, Facts::Keystore(_))
}

/// What hangs on what.
fn map(inventory: &Inventory, project: &Project, now: Timestamp) -> Vec<Hangs> {
    let active = || inventory.iter().filter(|item| item.state == State::Active);
    // profiles by the certificates that they name: gone through once
    let mut named: BTreeMap<&ItemId, Vec<&Item>> = BTreeMap::new();
    for item in active() {
        if let Facts::Profile(profile) = &item.facts {
            profile.certificates.iter().for_each(|id| named.entry(id).or_default().push(item));
        }
    }
    let mut out: Vec<(Option<NineKey>, Hangs)> = Vec::new();
    for item in active() {
        match &item.facts {
            Facts::Identity(identity) => {
                let certificate = identity.certificate.as_ref();
                let end = certificate.and_then(|id| inventory.certificate(id)).map(|own| own.not_after);
                let profiles = certificate.and_then(|id| named.get(id)).into_iter().flatten();
                let mut below: Vec<Hangs> =
                    profiles.filter_map(|profile| of_profile(project, profile, now)).collect();
                below.sort_by(|a, b| a.name.cmp(&b.name));
                if below.is_empty() {
                    below = apps(project, &identity.apps);
                }
                let key = identity.purpose.nine_key();
                let mut own = hangs(item, key.word(), end, &project.policy, now, below);
                if matches!(identity.wholeness(), Wholeness::Waiting | Wholeness::WithoutKey) {
                    own.mark = Mark::Missing;
                }
                out.push((Some(key), own));
            }
            Facts::Keystore(facts) => {
                for entry in &facts.entries {
                    let end = inventory.certificate(&entry.certificate).map(|own| own.not_after);
                    for role in entry.roles() {
                        let own: Vec<String> = entry.apps_as(role).into_iter().map(str::to_owned).collect();
                        let below = if own.is_empty() { Vec::new() } else { apps(project, &own) };
                        let key = role.nine_key();
                        out.push((Some(key), hangs(item, key.word(), end, &project.policy, now, below)));
                    }
                }
            }
            Facts::ApiKey(facts) => {
                let key = facts.service.nine_key();
                let below = if facts.apps.is_empty() { Vec::new() } else { apps(project, &facts.apps) };
                out.push((Some(key), hangs(item, key.word(), None, &project.policy, now, below)));
            }
            _ => {}
        }
    }
    out.sort_by(|(key, a), (other, b)| (key, &a.name).cmp(&(other, &b.name)));
    out.into_iter().map(|(_, hangs)| hangs).collect()
}

fn hangs(
    item: &Item,
    kind: &'static str,
    end: Option<Timestamp>,
    policy: &Policy,
    now: Timestamp,
    below: Vec<Hangs>,
) -> Hangs {
    let mark = end.map_or(Mark::InUse, |end| date_mark(end, now, policy));
    Hangs { name: item.name.clone(), kind, not_after: end, mark, below }
}

/// A profile, and the app that runs with it.
fn of_profile(project: &Project, item: &Item, now: Timestamp) -> Option<Hangs> {
    let Facts::Profile(facts) = &item.facts else { return None };
    let app = |name: &String| {
        let title = project.app(name).map_or_else(|| name.clone(), |(_, app)| app.title.clone());
        let name = format!("{title} for {}", facts.destination.phrase());
        Hangs { name, kind: "app", not_after: None, mark: Mark::InUse, below: Vec::new() }
    };
    let below = facts.apps.iter().map(app).collect();
    let word = NineKey::Profile.word();
    Some(hangs(item, word, Some(facts.not_after), &project.policy, now, below))
}

fn apps(project: &Project, names: &[String]) -> Vec<Hangs> {
    let app = |name: &String| {
        let title = project.app(name).map_or_else(|| name.clone(), |(_, app)| app.title.clone());
        Hangs { name: title, kind: "app", not_after: None, mark: Mark::InUse, below: Vec::new() }
    };
    names.iter().map(app).collect()
}
