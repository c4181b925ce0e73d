//! `date add`: a date that is kept beside the keys.

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, NewItem};
use ninekeys_core::model::{DateFacts, Facts, NameError, Policy, check_title};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{DateSaid, said};
use crate::ctx::{Ctx, OpenError};
use crate::identity;
use crate::profile::import::slug;
use crate::project::ProjectError;

/// The date to be kept.
#[derive(Debug)]
pub struct Request {
    /// What people call it.
    pub title: String,
    /// When it falls due next.
    pub on: Timestamp,
    /// After how many months it falls due again.
    pub every_months: Option<u32>,
    /// The apps that it is for; none for all.
    pub apps: Vec<String>,
}

/// What is kept now.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DateAddReport {
    /// The date.
    #[serde(flatten)]
    pub date: DateSaid,
    /// The time of this report.
    pub at: Timestamp,
}

/// Why it is not kept.
#[derive(Debug, Error)]
pub enum DateAddError {
    /// What it is called.
    #[error(transparent)]
    Title(#[from] NameError),
    /// The project file has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
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

/// Keeps a date.
///
/// # Errors
/// [`DateAddError`]; then the cabinet is as it was.
pub fn date_add(ctx: &Ctx<'_>, request: &Request) -> Result<DateAddReport, DateAddError> {
    check_title(&request.title)?;
    let project = ctx.project_if_any()?.map(|file| file.project).unwrap_or_default();
    let app = |wanted: &String| {
        let unknown = || DateAddError::UnknownApp(wanted.clone());
        project.app(wanted).map(|(name, _)| name.to_owned()).ok_or_else(unknown)
    };
    let apps = request.apps.iter().map(app).collect::<Result<Vec<_>, _>>()?;
    let facts = DateFacts {
        title: request.title.clone(),
        on: request.on,
        every_months: request.every_months,
        apps,
        done: None,
    };
    let mut cabinet = ctx.open_unlocked()?;
    let name = cabinet.change(&format!("date add {}", request.title), &ctx.env, |change| {
        let name = identity::free_name(&change.inventory(), &slug(&request.title));
        change.put(NewItem::new(name.as_str(), Facts::Date(Box::new(facts.clone())), None))?;
        Ok::<_, CabinetError>(name)
    })?;
    let policy: Policy = project.policy;
    Ok(DateAddReport { date: said(&name, &facts, &policy, ctx.env.now), at: ctx.env.now })
}
