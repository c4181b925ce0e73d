//! `app list`: the apps of the project file, and what the cabinet holds for each.

use ninekeys_core::model::{App, Inventory, Project, Role};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// The apps, by name.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AppListReport {
    /// A line an app.
    pub apps: Vec<AppLine>,
}

/// One app.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AppLine {
    /// Its name.
    pub app: String,
    /// What the project file says of it.
    #[serde(flatten)]
    pub says: App,
    /// The keystores that hold a key for it.
    pub keystores: Vec<String>,
    /// The accounts at the portal that act for its iOS side.
    pub accounts: Vec<AccountSaid>,
}

/// An account at the portal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AccountSaid {
    /// Its name in the project file.
    pub account: String,
    /// Its address for mail.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub email: Option<String>,
    /// The team that it belongs to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// What it may do, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
}

/// Why they cannot be told.
#[derive(Debug, Error)]
pub enum AppListError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
}

/// Lists the apps.
///
/// # Errors
/// [`AppListError`].
pub fn app_list(ctx: &Ctx<'_>) -> Result<AppListReport, AppListError> {
    let project = ctx.project_file()?.project;
    let inventory = ctx.look()?.inventory;
    let apps = project.apps.iter().map(|(name, app)| AppLine {
        app: name.to_string(),
        says: app.clone(),
        keystores: keystores_of(&inventory, name),
        accounts: accounts_of(&project, name, app),
    });
    Ok(AppListReport { apps: apps.collect() })
}

/// The accounts of the app's team that are for it, or for all.
fn accounts_of(project: &Project, name: &str, app: &App) -> Vec<AccountSaid> {
    let Some(ios) = &app.ios else { return Vec::new() };
    let team = project.team_of(ios);
    let own = project.accounts.iter().filter(|(_, account)| {
        let theirs = account.team.as_deref().or(project.team.as_deref());
        let is_for = account.apps.is_empty() || account.apps.iter().any(|app| app == name);
        is_for && (theirs == team || theirs.is_none() || team.is_none())
    });
    let said = own.map(|(account, facts)| AccountSaid {
        account: account.to_string(),
        email: facts.email.clone(),
        team: facts.team.clone().or_else(|| project.team.clone()),
        role: facts.role.clone(),
    });
    said.collect()
}

/// The keystores that hold a key for an app, by name.
pub(crate) fn keystores_of(inventory: &Inventory, app: &str) -> Vec<String> {
    let of = |role| inventory.android_keys(app, role).map(|(item, _)| item.name.clone());
    let mut names: Vec<String> = of(Role::Signing).chain(of(Role::Upload)).collect();
    names.sort();
    names.dedup();
    names
}
