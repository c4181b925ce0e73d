//! `date done`: a date was seen to; one that recurs falls due again.

use jiff::Timestamp;
use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::{Facts, Policy, State};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{DateSaid, FindError, find, said};
use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// What it is now.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DateDoneReport {
    /// The date.
    #[serde(flatten)]
    pub date: DateSaid,
    /// Whether that was the last time.
    pub over: bool,
    /// The time of this report.
    pub at: Timestamp,
}

/// Why it stays as it is.
#[derive(Debug, Error)]
pub enum DateDoneError {
    /// The date.
    #[error(transparent)]
    Find(#[from] FindError),
    /// It is over.
    #[error("{0} was for once, and was seen to")]
    Over(String),
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

/// Notes that a date was seen to.
///
/// # Errors
/// [`DateDoneError`]; then the cabinet is as it was.
pub fn date_done(ctx: &Ctx<'_>, name: &str) -> Result<DateDoneReport, DateDoneError> {
    let policy = ctx.project_if_any()?.map_or_else(Policy::default, |file| file.project.policy);
    let mut cabinet = ctx.open()?;
    find(&*cabinet.inventory()?, name)?;
    ctx.unlock(&mut cabinet)?;
    let now = ctx.env.now;
    let (name, facts, over) = cabinet.change(&format!("date done {name}"), &ctx.env, |change| {
        let inventory = change.inventory();
        let (item, facts) = find(&inventory, name)?;
        if item.state == State::Retired {
            return Err(DateDoneError::Over(item.name.clone()));
        }
        let (mut item, mut facts) = (item.clone(), facts.clone());
        facts.done = Some(now);
        match facts.after() {
            Some(next) => facts.on = next,
            None => item.state = State::Retired,
        }
        item.facts = Facts::Date(Box::new(facts.clone()));
        change.revise(&item, None)?;
        Ok((item.name, facts, item.state == State::Retired))
    })?;
    Ok(DateDoneReport { date: said(&name, &facts, &policy, now), over, at: now })
}
