//! `app change`: another title, id, version or other destinations in the project file.

use ninekeys_core::model::{App, Destination, NameError, Platform, ReviewSays, check_title};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;
use toml_edit::{Array, DocumentMut, Item, Table, TableLike, value};

use super::Request;
use super::add::{IdError, check_bundle_id, check_id};
use super::ios::{IosError, Read, profiles_too_old};
use crate::ctx::Ctx;
use crate::project::{ProjectError, ProjectFile};
use crate::store::publish::{PublishError, Published, publish};
use crate::store::review;

/// What it is now.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AppChangeReport {
    /// Its name.
    pub app: String,
    /// What the project file says of it.
    #[serde(flatten)]
    pub says: App,
    /// Profiles that do not grant what the app has now: they have to be made again.
    pub profiles_too_old: Vec<String>,
    /// The project file.
    pub project: String,
    /// What the store knows of it now, where that was asked for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub published: Vec<Published>,
}

/// Why nothing was changed.
#[derive(Debug, Error)]
pub enum AppChangeError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// No such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The project file is changed, and the store does not know the app.
    #[error(transparent)]
    Publish(#[from] Box<PublishError>),
    /// Nothing was named.
    #[error("nothing was named that should be changed")]
    NothingToChange,
    /// Its title cannot be one.
    #[error(transparent)]
    Title(#[from] NameError),
    /// An id that no platform takes, or another app's.
    #[error(transparent)]
    Id(#[from] IdError),
    /// What is said of its iOS side.
    #[error(transparent)]
    Ios(#[from] IosError),
    /// A destination that no side of it has.
    #[error("{destination} is not a destination of {app}")]
    Destination {
        /// The app.
        app: String,
        /// The destination.
        destination: Destination,
    },
}

/// Changes the app, and keeps everything else in the file as it is.
///
/// # Errors
/// [`AppChangeError`]; then the file is as it was, but for [`AppChangeError::Publish`].
pub fn app_change(ctx: &Ctx<'_>, request: &Request) -> Result<AppChangeReport, AppChangeError> {
    let Request { title, package, bundle_id, destinations, version, .. } = request;
    let fields = [title, package, bundle_id, version];
    let changes = fields.iter().any(|field| field.is_some())
        || !destinations.is_empty()
        || !request.ios.is_empty()
        || request.review != ReviewSays::default();
    if !changes && request.publish.is_none() {
        return Err(AppChangeError::NothingToChange);
    }
    title.as_deref().map_or(Ok(()), check_title)?;
    package.as_deref().map_or(Ok(()), check_id)?;
    bundle_id.as_deref().map_or(Ok(()), check_bundle_id)?;
    let ios = request.ios.read(ctx)?;
    let file = ctx.project_file()?;
    let name = if changes {
        file.change(ctx, |file, document| change(file, document, request, &ios))?
    } else {
        let found = file.project.app(&request.name).map(|(name, _)| name.to_owned());
        found.ok_or_else(|| AppChangeError::UnknownApp(request.name.clone()))?
    };
    let file = ctx.project_file()?;
    let says = file.project.apps.get(name.as_str()).cloned().unwrap_or_default();
    let project = file.path.strip_prefix(&ctx.folder).unwrap_or(&file.path).display().to_string();
    // the app is changed whether or not there is a cabinet to look into
    let inventory = ctx.open().ok().and_then(|cabinet| cabinet.inventory().ok());
    let profiles_too_old = match (&inventory, &says.ios) {
        (Some(all), Some(ios)) => profiles_too_old(all, ios, ctx.env.now),
        _ => Vec::new(),
    };
    let published = match &request.publish {
        Some(says) => publish(ctx, &name, says).map_err(Box::new)?,
        None => Vec::new(),
    };
    Ok(AppChangeReport { app: name, says, profiles_too_old, project, published })
}

fn change(
    file: &ProjectFile,
    document: &mut DocumentMut,
    request: &Request,
    ios: &Read<'_>,
) -> Result<String, AppChangeError> {
    let found = file.project.app(&request.name);
    let (name, app) = found.ok_or_else(|| AppChangeError::UnknownApp(request.name.clone()))?;
    let ids = [(Platform::Android, &request.package), (Platform::Ios, &request.bundle_id)];
    for (platform, id) in ids.into_iter().filter_map(|(platform, id)| Some((platform, id.as_ref()?))) {
        if let Some((other, _)) = file.project.app_of(platform, id).filter(|(other, _)| *other != name) {
            return Err(IdError::Taken { id: id.clone(), app: other.into() }.into());
        }
    }
    let has = |platform: Platform, id: &Option<String>| id.is_some() || app.side(platform).is_some();
    let sides: Vec<Platform> =
        ids.into_iter().filter(|(platform, id)| has(*platform, id)).map(|(platform, _)| platform).collect();
    let homeless = |to: &&Destination| !sides.iter().any(|platform| platform.has(**to));
    if let Some(destination) = request.destinations.iter().find(homeless) {
        return Err(AppChangeError::Destination { app: name.into(), destination: *destination });
    }
    let bundle_id = request.bundle_id.as_deref().or(app.ios.as_ref().map(|ios| ios.bundle_id.as_str()));
    match bundle_id {
        Some(bundle_id) => ios.check_inside(bundle_id)?,
        None if !request.ios.is_empty() => return Err(IosError::NoIosSide(app.title.clone()).into()),
        None => {}
    }
    let malformed = || ProjectError::Malformed {
        path: file.path.display().to_string(),
        reason: format!("`app.{name}` is not a table"),
    };
    let table = document.get_mut("app").and_then(|apps| apps.as_table_like_mut()?.get_mut(name));
    let table = table.and_then(Item::as_table_like_mut).ok_or_else(malformed)?;
    for (key, field) in [("title", &request.title), ("version", &request.version)] {
        if let Some(text) = field {
            put(table, key, text);
        }
    }
    review::write_says(table, &request.review).ok_or_else(malformed)?;
    for (platform, id) in ids {
        if !sides.contains(&platform) {
            continue;
        }
        let (side, key) = match platform {
            Platform::Android => ("android", "package"),
            Platform::Ios => ("ios", "bundle-id"),
        };
        if table.get(side).is_none() {
            table.insert(side, Item::Table(Table::new()));
        }
        let side = table.get_mut(side).and_then(Item::as_table_like_mut).ok_or_else(malformed)?;
        if let Some(id) = id {
            put(side, key, id);
        }
        if platform == Platform::Ios {
            let known = app.ios.as_ref().map(|ios| ios.capabilities.as_slice());
            ios.write(side, known.unwrap_or_default());
        }
        let own = request.destinations.iter().filter(|destination| platform.has(**destination));
        let own: Array = own.map(ToString::to_string).collect();
        if !own.is_empty() {
            side.insert("destinations", value(own));
        }
    }
    Ok(name.into())
}

/// A value in the place of what stands there, comments kept.
fn put(table: &mut dyn TableLike, key: &str, text: &str) {
    let before = table.get(key).and_then(Item::as_value).map(|value| value.decor().clone());
    let mut new = toml_edit::Value::from(text);
    if let Some(decor) = before {
        *new.decor_mut() = decor;
    }
    table.insert(key, Item::Value(new));
}
