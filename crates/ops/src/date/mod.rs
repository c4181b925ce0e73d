//! Dates that belong to no key: added, listed, seen to, taken out.

pub mod add;
pub mod done;
pub mod list;
pub mod remove;

use jiff::Timestamp;
use ninekeys_core::board::{Mark, date_mark};
use ninekeys_core::model::{DateFacts, Facts, Inventory, Item, NotFound, Policy, State};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

/// A date as answers say it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct DateSaid {
    /// Its name.
    pub date: String,
    /// What people call it.
    pub title: String,
    /// When it falls due next.
    pub on: Timestamp,
    /// After how many months it falls due again.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub every_months: Option<u32>,
    /// The apps that it is for by name.
    pub apps: Vec<String>,
    /// When it was last seen to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub done: Option<Timestamp>,
    /// How it stands.
    pub mark: Mark,
}

/// Why no date was found.
#[derive(Debug, Error)]
pub enum FindError {
    /// Nothing, or too much, goes by that name.
    #[error(transparent)]
    NotFound(#[from] NotFound),
    /// What was named is no date.
    #[error("{name} is {found}, not a date")]
    NotADate {
        /// Its name.
        name: String,
        /// What it is.
        found: String,
    },
}

/// The date with that name.
fn find<'a>(inventory: &'a Inventory, name: &str) -> Result<(&'a Item, &'a DateFacts), FindError> {
    let item = inventory.find(name)?;
    match &item.facts {
        Facts::Date(facts) => Ok((item, facts)),
        other => Err(FindError::NotADate { name: item.name.clone(), found: other.one() }),
    }
}

/// The dates that are not over, the first one first.
pub(crate) fn all(inventory: &Inventory) -> Vec<(&Item, &DateFacts)> {
    let active = inventory.iter().filter(|item| item.state == State::Active);
    let mut out: Vec<_> = active
        .filter_map(|item| match &item.facts {
            Facts::Date(facts) => Some((item, facts.as_ref())),
            _ => None,
        })
        .collect();
    out.sort_by(|(a, one), (b, other)| (one.on, &a.name).cmp(&(other.on, &b.name)));
    out
}

fn said(name: &str, facts: &DateFacts, policy: &Policy, now: Timestamp) -> DateSaid {
    DateSaid {
        date: name.into(),
        title: facts.title.clone(),
        on: facts.on,
        every_months: facts.every_months,
        apps: facts.apps.clone(),
        done: facts.done,
        mark: date_mark(facts.on, now, policy),
    }
}
