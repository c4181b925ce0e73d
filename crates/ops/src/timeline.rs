//! `timeline`: what ends when, in the coming months; nothing is unlocked.

use std::collections::BTreeMap;

use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};
use ninekeys_core::board::Mark;
use ninekeys_core::model::State;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::Ctx;
use crate::inventory::{InventoryError, Line, Wanted, inventory, look};

/// The most months of a picture.
pub const MOST_MONTHS: u32 = 120;

/// What ends when.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TimelineReport {
    /// What it is headed with.
    pub title: String,
    /// Where the picture begins: the first of this month.
    pub from: Timestamp,
    /// Where it ends: the first of a month.
    pub until: Timestamp,
    /// How many months there are between.
    pub months: u32,
    /// Days within which something falls due.
    pub due_days: u32,
    /// The apps, by title; what is for several or for all comes last.
    pub groups: Vec<Group>,
    /// What ends beyond the picture, the first one first.
    pub beyond: Vec<Bar>,
    /// The time of the look.
    pub at: Timestamp,
}

/// What ends of an app.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Group {
    /// The app; nothing for what is for several or for all.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub app: Option<String>,
    /// What people call it.
    pub title: String,
    /// What ends, the first one first.
    pub bars: Vec<Bar>,
}

/// Something that ends.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Bar {
    /// Its name.
    pub name: String,
    /// The word for its kind.
    pub kind: &'static str,
    /// What people call it, of a date.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// When.
    pub not_after: Timestamp,
    /// How it stands.
    pub mark: Mark,
    /// How many profiles it takes with it.
    pub profiles: usize,
}

/// Why there is no picture.
#[derive(Debug, Error)]
pub enum TimelineError {
    /// What the cabinet holds.
    #[error(transparent)]
    Inventory(#[from] InventoryError),
    /// A calendar has an end.
    #[error("the picture would go beyond what calendars know")]
    Beyond,
}

/// The first of the month that is so many months later.
fn first_of_month(at: Timestamp, later: u32) -> Option<Timestamp> {
    let first = at.to_zoned(TimeZone::UTC).start_of_day().ok()?.first_of_month().ok()?;
    Some(first.checked_add(Span::new().months(later)).ok()?.timestamp())
}

/// Draws what ends in so many months.
///
/// # Errors
/// [`TimelineError`].
pub fn timeline(ctx: &Ctx<'_>, months: u32) -> Result<TimelineReport, TimelineError> {
    let look = look(ctx).map_err(InventoryError::from)?;
    let listed = inventory(ctx, &look, &Wanted::default())?;
    let project =
        ctx.project_if_any().map_err(InventoryError::from)?.map(|file| file.project).unwrap_or_default();
    let now = ctx.env.now;
    let month = |later| first_of_month(now, later).ok_or(TimelineError::Beyond);
    let (from, until) = (month(0)?, month(months)?);
    let mut groups: BTreeMap<(bool, String, Option<String>), Vec<Bar>> = BTreeMap::new();
    let mut beyond = Vec::new();
    for line in listed.items.iter().filter(|line| line.state == State::Active) {
        let Some(bar) = bar(line) else { continue };
        if bar.not_after >= until {
            beyond.push(bar);
            continue;
        }
        let key = match line.apps.as_slice() {
            [one] => {
                let title = project.app(one).map_or_else(|| (*one).to_owned(), |(_, app)| app.title.clone());
                (false, title, Some((*one).to_owned()))
            }
            [] => (true, "every app".to_owned(), None),
            _ => (true, "several apps".to_owned(), None),
        };
        groups.entry(key).or_default().push(bar);
    }
    let by_end = |a: &Bar, b: &Bar| (a.not_after, &a.name).cmp(&(b.not_after, &b.name));
    beyond.sort_by(by_end);
    let groups = groups.into_iter().map(|((_, title, app), mut bars)| {
        bars.sort_by(by_end);
        Group { app, title, bars }
    });
    Ok(TimelineReport {
        title: project.title.clone(),
        from,
        until,
        months,
        due_days: listed.due_days,
        groups: groups.collect(),
        beyond,
        at: now,
    })
}

fn bar(line: &Line<'_>) -> Option<Bar> {
    Some(Bar {
        name: line.name.to_owned(),
        kind: line.kind,
        title: line.subject.filter(|_| line.kind == "date").map(str::to_owned),
        not_after: line.not_after?,
        mark: line.mark,
        profiles: line.profiles,
    })
}
