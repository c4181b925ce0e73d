//! `given`: who was given what, and whether it is still what is used.

use std::collections::HashMap;

use jiff::Timestamp;
use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::{Destination, Facts, HandOutFacts, Inventory, ItemId, State};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::identity;

/// Everything that was given, the newest first.
#[derive(Debug, Serialize, JsonSchema)]
pub struct GivenReport {
    /// The rows.
    pub given: Vec<Given>,
    /// The time of the look.
    pub at: Timestamp,
}

/// What somebody was given at one time.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Given {
    /// Who.
    pub receiver: String,
    /// The app's name.
    pub app: String,
    /// Where builds with it go.
    pub destination: Destination,
    /// When.
    pub given_at: Timestamp,
    /// Which member unlocked the cabinet for it.
    pub by: String,
    /// What it was.
    pub items: Vec<GivenItem>,
    /// Whether any of it is no longer what is used: then somebody has to be told.
    pub stale: bool,
}

/// An item that somebody was given.
#[derive(Debug, Serialize, JsonSchema)]
pub struct GivenItem {
    /// Its name, as it is called now where it is still there.
    pub name: String,
    /// The file that it went out in.
    pub file: String,
    /// How it stands today.
    pub standing: Standing,
    /// What took its place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub replaced_by: Option<String>,
}

/// How something that was given stands today.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// It is in use.
    InUse,
    /// Its time is over.
    Expired,
    /// It was revoked.
    Revoked,
    /// It is retired.
    Retired,
    /// It is not in the cabinet any more.
    Gone,
}

/// Why it cannot be told.
#[derive(Debug, Error)]
pub enum GivenError {
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet could not be read.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Tells who was given what; nothing is unlocked.
///
/// # Errors
/// [`GivenError`].
pub fn given(ctx: &Ctx<'_>, receiver: Option<&str>) -> Result<GivenReport, GivenError> {
    let cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let now = ctx.env.now;
    let mut all: Vec<(u64, &HandOutFacts)> = inventory
        .iter()
        .filter_map(|item| match &item.facts {
            Facts::HandOut(facts) => Some((item.made, facts.as_ref())),
            _ => None,
        })
        .filter(|(_, facts)| receiver.is_none_or(|name| facts.receiver.eq_ignore_ascii_case(name)))
        .collect();
    all.sort_by(|(made, a), (other, b)| (b.at, other).cmp(&(a.at, made)));
    let successors = inventory.iter().filter_map(|item| Some((item.replaces?, item.name.as_str()))).collect();
    let given = all.into_iter().map(|(_, facts)| row(&inventory, &successors, facts, now)).collect();
    Ok(GivenReport { given, at: now })
}

/// What took the place of what, by name.
type Successors<'a> = HashMap<ItemId, &'a str>;

fn row(inventory: &Inventory, successors: &Successors<'_>, facts: &HandOutFacts, now: Timestamp) -> Given {
    let items: Vec<GivenItem> = facts
        .given
        .iter()
        .map(|one| {
            let item = inventory.get(&one.item);
            GivenItem {
                name: item.map_or_else(|| one.name.clone(), |item| item.name.clone()),
                file: one.file.clone(),
                standing: standing(inventory, &one.item, now),
                replaced_by: successors.get(&one.item).map(|name| (*name).to_owned()),
            }
        })
        .collect();
    Given {
        receiver: facts.receiver.clone(),
        app: facts.app.clone(),
        destination: facts.destination,
        given_at: facts.at,
        by: facts.by.clone(),
        stale: items.iter().any(|one| one.standing != Standing::InUse),
        items,
    }
}

fn standing(inventory: &Inventory, id: &ItemId, now: Timestamp) -> Standing {
    let Some(item) = inventory.get(id) else { return Standing::Gone };
    let ends = match &item.facts {
        Facts::Identity(facts) if facts.revoked.is_some() => return Standing::Revoked,
        Facts::Identity(facts) => {
            let certificate = facts.certificate.and_then(|id| identity::certificate_facts(inventory, &id));
            certificate.map(|certificate| certificate.not_after)
        }
        Facts::Profile(profile) => Some(profile.not_after),
        _ => None,
    };
    match (item.state, ends) {
        (State::Retired, _) => Standing::Retired,
        (State::Active, Some(end)) if end < now => Standing::Expired,
        (State::Active, _) => Standing::InUse,
    }
}

/// Who was given an item, and when, the newest first.
pub(crate) fn receivers(inventory: &Inventory, id: &ItemId) -> Vec<Receiver> {
    let mut all: Vec<Receiver> = inventory
        .dependents(id)
        .filter_map(|item| match &item.facts {
            Facts::HandOut(facts) => Some(Receiver {
                receiver: facts.receiver.clone(),
                app: facts.app.clone(),
                destination: facts.destination,
                given_at: facts.at,
            }),
            _ => None,
        })
        .collect();
    all.sort_by(|a, b| (b.given_at, &a.receiver).cmp(&(a.given_at, &b.receiver)));
    all
}

/// Somebody who was given an item.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Receiver {
    /// Who.
    pub receiver: String,
    /// For which app.
    pub app: String,
    /// Where builds with it go.
    pub destination: Destination,
    /// When.
    pub given_at: Timestamp,
}
