//! `app add`: an app in the project file.

use ninekeys_core::model::{App, Destination, NameError, check_name, check_title};
use serde::Serialize;
use thiserror::Error;
use toml_edit::{Array, DocumentMut, Item, Table, value};

use crate::ctx::Ctx;
use crate::project::{ProjectError, ProjectFile};

/// The app to be added.
#[derive(Debug)]
pub struct Request {
    /// Its name in commands and file names.
    pub name: String,
    /// What people call it.
    pub title: Option<String>,
    /// The Android package.
    pub package: Option<String>,
    /// The iOS bundle id.
    pub bundle_id: Option<String>,
    /// Where its builds go; the first is meant when nothing is said.
    pub destinations: Vec<Destination>,
    /// The version that the next build should have.
    pub version: Option<String>,
}

/// What was added.
#[derive(Debug, Serialize)]
pub struct AppAddReport {
    /// Its name.
    pub name: String,
    /// What the project file says of it now.
    pub app: App,
    /// The project file.
    pub project: String,
}

/// Why it was not added.
#[derive(Debug, Error)]
pub enum AppAddError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// Its name cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// There is an app of that name.
    #[error("there is an app called {0} already")]
    Exists(String),
    /// Another app has that package or bundle id.
    #[error("{id} is the id of {app} already")]
    IdTaken {
        /// The package or bundle id.
        id: String,
        /// The app that has it.
        app: String,
    },
    /// Neither side was named.
    #[error("an app needs a package (Android), a bundle id (iOS) or both")]
    NoSide,
    /// An id that no platform takes.
    #[error("`{0}` is not a package or bundle id: letters, digits and `_` (or `-`), with dots between")]
    Id(String),
    /// A destination that the side does not have.
    #[error("{destination} is not a destination of an app without {side}")]
    Destination {
        /// The destination.
        destination: Destination,
        /// The side it belongs to.
        side: &'static str,
    },
}

/// Adds the app, and keeps everything else in the file as it is.
///
/// # Errors
/// [`AppAddError`]; then the file is as it was.
pub fn app_add(ctx: &Ctx<'_>, request: &Request) -> Result<AppAddReport, AppAddError> {
    check_name(&request.name)?;
    request.title.as_deref().map_or(Ok(()), check_title)?;
    for id in request.package.iter().chain(&request.bundle_id) {
        check_id(id)?;
    }
    if request.package.is_none() && request.bundle_id.is_none() {
        return Err(AppAddError::NoSide);
    }
    let file = ctx.project_file()?;
    file.change(ctx, |file, document| {
        refuse_taken(file, request)?;
        insert(file, document, request)
    })?;
    let written = ctx.project_file()?;
    let app = written.project.apps.get(request.name.as_str()).cloned().unwrap_or_default();
    let project = file.path.strip_prefix(&ctx.folder).unwrap_or(&file.path).display().to_string();
    Ok(AppAddReport { name: request.name.clone(), app, project })
}

fn refuse_taken(file: &ProjectFile, request: &Request) -> Result<(), AppAddError> {
    let apps = &file.project.apps;
    if let Some((name, _)) = apps.iter().find(|(name, _)| name.eq_ignore_ascii_case(&request.name)) {
        return Err(AppAddError::Exists(name.to_string()));
    }
    let package = |app: &App| app.android.as_ref().map(|android| android.package.clone());
    let bundle_id = |app: &App| app.ios.as_ref().map(|ios| ios.bundle_id.clone());
    for (name, app) in apps {
        for (wanted, known) in [(&request.package, package(app)), (&request.bundle_id, bundle_id(app))] {
            if let Some(id) = wanted.as_ref().filter(|id| known.as_ref() == Some(*id)) {
                return Err(AppAddError::IdTaken { id: id.clone(), app: name.to_string() });
            }
        }
    }
    Ok(())
}

fn insert(file: &ProjectFile, document: &mut DocumentMut, request: &Request) -> Result<(), AppAddError> {
    let mut table = table(request)?;
    // comments at the end of the file stay in front of what is added
    let trailing = document.trailing().as_str().unwrap_or_default().to_owned();
    let gap = if trailing.is_empty() || trailing.ends_with('\n') { "\n" } else { "\n\n" };
    table.decor_mut().set_prefix(format!("{trailing}{gap}"));
    document.set_trailing("");
    let all = document.entry("app").or_insert_with(|| {
        let mut parent = Table::new();
        parent.set_implicit(true);
        Item::Table(parent)
    });
    let Some(all) = all.as_table_like_mut() else {
        let reason = "`app` is not a table".to_owned();
        return Err(ProjectError::Malformed { path: file.path.display().to_string(), reason }.into());
    };
    all.insert(&request.name, Item::Table(table));
    Ok(())
}

/// Where an Android app's builds can go.
const ANDROID: [Destination; 3] = [Destination::Direct, Destination::Store, Destination::Development];

fn table(request: &Request) -> Result<Table, AppAddError> {
    let mut table = Table::new();
    table.insert("title", value(request.title.clone().unwrap_or_else(|| capitalised(&request.name))));
    if let Some(version) = &request.version {
        table.insert("version", value(version));
    }
    let android = side(request, &ANDROID, "an Android side", &request.package)?;
    let ios = side(
        request,
        &[Destination::Store, Destination::Devices, Destination::Development, Destination::InHouse],
        "an iOS side",
        &request.bundle_id,
    )?;
    for (name, key, id, destinations) in
        [("android", "package", &request.package, android), ("ios", "bundle-id", &request.bundle_id, ios)]
    {
        if let Some(id) = id {
            let mut side = Table::new();
            side.insert(key, value(id));
            side.insert("destinations", value(destinations));
            table.insert(name, Item::Table(side));
        }
    }
    Ok(table)
}

/// The destinations that were asked for and that this side has; all that were asked for must have a side.
fn side(
    request: &Request,
    known: &[Destination],
    side: &'static str,
    id: &Option<String>,
) -> Result<Array, AppAddError> {
    let both = request.package.is_some() && request.bundle_id.is_some();
    for destination in &request.destinations {
        if id.is_some() && !both && !known.contains(destination) && *destination != Destination::Development {
            let other = if side == "an iOS side" { "an Android side" } else { "an iOS side" };
            return Err(AppAddError::Destination { destination: *destination, side: other });
        }
    }
    let wanted = request.destinations.iter().filter(|destination| known.contains(destination));
    Ok(wanted.map(ToString::to_string).collect())
}

fn check_id(id: &str) -> Result<(), AppAddError> {
    let part = |part: &str| {
        !part.is_empty() && part.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-'))
    };
    let good = id.len() <= 255 && id.contains('.') && id.split('.').all(part);
    if good { Ok(()) } else { Err(AppAddError::Id(id.into())) }
}

fn capitalised(name: &str) -> String {
    let mut letters = name.chars();
    letters
        .next()
        .map(|first| first.to_uppercase().collect::<String>() + letters.as_str())
        .unwrap_or_default()
}
