//! `date remove`: a date that nobody needs any more.

use ninekeys_cabinet::CabinetError;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{FindError, find};
use crate::ctx::{Ctx, OpenError};

/// What is not kept any more.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DateRemoveReport {
    /// Its name.
    pub date: String,
    /// What people called it.
    pub title: String,
}

/// Why it stays.
#[derive(Debug, Error)]
pub enum DateRemoveError {
    /// The date.
    #[error(transparent)]
    Find(#[from] FindError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Takes a date out.
///
/// # Errors
/// [`DateRemoveError`]; then the cabinet is as it was.
pub fn date_remove(ctx: &Ctx<'_>, name: &str) -> Result<DateRemoveReport, DateRemoveError> {
    let mut cabinet = ctx.open()?;
    find(&*cabinet.inventory()?, name)?;
    ctx.unlock(&mut cabinet)?;
    cabinet.change(&format!("date remove {name}"), &ctx.env, |change| {
        let inventory = change.inventory();
        let (item, facts) = find(&inventory, name)?;
        change.take_out(item)?;
        Ok(DateRemoveReport { date: item.name.clone(), title: facts.title.clone() })
    })
}
