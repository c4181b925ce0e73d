//! `app list`: the apps of the project file, and what the cabinet holds for each.

use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::{App, Inventory, Role};
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
    /// The cabinet could not be read.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Lists the apps.
///
/// # Errors
/// [`AppListError`].
pub fn app_list(ctx: &Ctx<'_>) -> Result<AppListReport, AppListError> {
    let project = ctx.project_file()?.project;
    let inventory = ctx.open()?.inventory()?;
    let apps = project.apps.iter().map(|(name, app)| AppLine {
        app: name.to_string(),
        says: app.clone(),
        keystores: keystores_of(&inventory, name),
    });
    Ok(AppListReport { apps: apps.collect() })
}

/// The keystores that hold a key for an app, by name.
pub(crate) fn keystores_of(inventory: &Inventory, app: &str) -> Vec<String> {
    let of = |role| inventory.android_keys(app, role).map(|(item, _)| item.name.clone());
    let mut names: Vec<String> = of(Role::Signing).chain(of(Role::Upload)).collect();
    names.sort();
    names.dedup();
    names
}
