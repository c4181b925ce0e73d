//! `app remove`: an app out of the project file. Its keys and releases stay in the cabinet.

use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;
use toml_edit::Item;

use super::list::keystores_of;
use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// What was taken out.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AppRemoveReport {
    /// Its name.
    pub app: String,
    /// What people called it.
    pub title: String,
    /// The keystores that hold keys for it, and keep them.
    pub keystores: Vec<String>,
    /// How many of its releases the ledger has, and keeps.
    pub releases: usize,
    /// The project file.
    pub project: String,
}

/// Why nothing was taken out.
#[derive(Debug, Error)]
pub enum AppRemoveError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// No such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// Nobody said that it is meant.
    #[error("{app} would go out of the project file{}; say that it is meant", kept(keystores))]
    NotSure {
        /// The app.
        app: String,
        /// The keystores that hold keys for it.
        keystores: Vec<String>,
    },
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
}

fn kept(keystores: &[String]) -> String {
    match keystores {
        [] => String::new(),
        names => format!(", while {} keep their keys for it", names.join(", ")),
    }
}

/// Takes the app out, and keeps everything else in the file as it is.
///
/// # Errors
/// [`AppRemoveError`]; then the file is as it was.
pub fn app_remove(ctx: &Ctx<'_>, name: &str, yes: bool) -> Result<AppRemoveReport, AppRemoveError> {
    let file = ctx.project_file()?;
    let found = file.project.app(name);
    let (name, app) = found.ok_or_else(|| AppRemoveError::UnknownApp(name.into()))?;
    let inventory = ctx.look()?.inventory;
    let keystores = keystores_of(&inventory, name);
    if !yes {
        let not_sure = || AppRemoveError::NotSure { app: name.into(), keystores: keystores.clone() };
        if !keystores.is_empty() {
            let verbs = if keystores.len() == 1 { ("holds", "keeps") } else { ("hold", "keep") };
            ctx.ask.tell(&format!("{} {} keys for it, and {} them", keystores.join(", "), verbs.0, verbs.1));
        }
        match ctx.ask.sure(&format!("Take {} out of the project file", app.title))? {
            Some(true) => {}
            Some(false) => return Err(AskError::Declined.into()),
            None => return Err(not_sure()),
        }
    }
    file.change(ctx, |now, document| {
        // another process may have taken it out meanwhile
        let there = now.project.apps.contains_key(name);
        let apps = document.get_mut("app").and_then(Item::as_table_like_mut);
        match apps.filter(|_| there).and_then(|apps| apps.remove(name)) {
            Some(_) => Ok(()),
            None => Err(AppRemoveError::UnknownApp(name.into())),
        }
    })?;
    Ok(AppRemoveReport {
        app: name.into(),
        title: app.title.clone(),
        releases: inventory.releases().iter().filter(|release| release.app == name).count(),
        keystores,
        project: file.path.strip_prefix(&ctx.folder).unwrap_or(&file.path).display().to_string(),
    })
}
