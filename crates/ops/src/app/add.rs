//! `app add`: an app in the project file.

use ninekeys_core::ios::certificate::is_team;
use ninekeys_core::model::{App, Destination, NameError, Platform, Role, State, check_name, check_title};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;
use toml_edit::{Array, DocumentMut, Item, Table, value};

use super::Request;
use super::ios::{IosError, Read};
use crate::ask::AskError;
use crate::ctx::Ctx;
use crate::project::{ProjectError, ProjectFile};
use crate::store::publish::{PublishError, Published, publish};
use crate::store::review;

/// What was added.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AppAddReport {
    /// Its name.
    pub app: String,
    /// What the project file says of it now.
    #[serde(flatten)]
    pub says: App,
    /// Keystores in the cabinet that are for other apps of this side, and could serve it too.
    pub could_serve: Vec<String>,
    /// The project file.
    pub project: String,
    /// What the store knows of it now, where that was asked for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub published: Vec<Published>,
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
    /// Neither side was named.
    #[error("an app needs a package (Android), a bundle id (iOS) or both")]
    NoSide,
    /// An id that no platform takes, or another app's.
    #[error(transparent)]
    Id(#[from] IdError),
    /// A destination that the side does not have.
    #[error("{destination} is not a destination of an app without an {} side", side.title())]
    Destination {
        /// The destination.
        destination: Destination,
        /// The side it belongs to.
        side: Platform,
    },
    /// What is said of its iOS side.
    #[error(transparent)]
    Ios(#[from] IosError),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// It is in the project file, and the store does not know it.
    #[error(transparent)]
    Publish(#[from] Box<PublishError>),
}

/// Why an id cannot be an app's.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum IdError {
    /// No platform takes it.
    #[error("`{0}` is not a package or bundle id: letters, digits and `_` (or `-`), with dots between")]
    Shape(String),
    /// A bundle id with the team's prefix in front.
    #[error("{id} begins with a team id, which is no part of a bundle id")]
    TeamPrefix {
        /// What was said.
        id: String,
        /// The bundle id behind the team.
        without: String,
    },
    /// Another app has it.
    #[error("{id} is the id of {app} already")]
    Taken {
        /// The package or bundle id.
        id: String,
        /// The app that has it.
        app: String,
    },
}

/// Adds the app, and keeps everything else in the file as it is.
///
/// # Errors
/// [`AppAddError`]; then the file is as it was, but for [`AppAddError::Publish`].
pub fn app_add(ctx: &Ctx<'_>, mut request: Request) -> Result<AppAddReport, AppAddError> {
    check_name(&request.name)?;
    complete(ctx, &mut request)?;
    let request = &request;
    request.title.as_deref().map_or(Ok(()), check_title)?;
    request.package.as_deref().map_or(Ok(()), check_id)?;
    request.bundle_id.as_deref().map_or(Ok(()), check_bundle_id)?;
    if request.package.is_none() && request.bundle_id.is_none() {
        return Err(AppAddError::NoSide);
    }
    let ios = request.ios.read(ctx)?;
    match &request.bundle_id {
        Some(bundle_id) => ios.check_inside(bundle_id)?,
        None if !request.ios.is_empty() => return Err(IosError::NoIosSide(request.name.clone()).into()),
        None => {}
    }
    let file = ctx.project_file()?;
    file.change(ctx, |file, document| {
        refuse_taken(file, request)?;
        insert(file, document, request, &ios)
    })?;
    let written = ctx.project_file()?;
    let says = written.project.apps.get(request.name.as_str()).cloned().unwrap_or_default();
    // the app is added whether or not there is a cabinet to look into
    let inventory = ctx.open().ok().and_then(|cabinet| cabinet.inventory().ok());
    let could_serve = match &says.android {
        Some(android) => inventory.map_or_else(Vec::new, |inventory| {
            // an upload key is no help where nothing is uploaded
            let uploads = android.destinations.contains(&Destination::Store);
            let serves = |role: &Role| uploads || *role == Role::Signing;
            inventory
                .keystores()
                .into_iter()
                .filter(|(item, _)| item.state == State::Active)
                .filter(|(_, keystore)| keystore.entries.iter().any(|entry| entry.roles().iter().any(serves)))
                .map(|(item, _)| item.name.clone())
                .collect()
        }),
        None => Vec::new(),
    };
    let project = file.path.strip_prefix(&ctx.folder).unwrap_or(&file.path).display().to_string();
    let published = match &request.publish {
        Some(says) => publish(ctx, &request.name, says).map_err(Box::new)?,
        None => Vec::new(),
    };
    Ok(AppAddReport { app: request.name.clone(), says, could_serve, project, published })
}

/// Asks a person for the ids of an app that was named without any, and for where its builds go.
fn complete(ctx: &Ctx<'_>, request: &mut Request) -> Result<(), AppAddError> {
    if request.package.is_some() || request.bundle_id.is_some() {
        return Ok(());
    }
    let id = |answer: &str| match answer {
        "" => Ok(()),
        id => check_id(id).map_err(|error| error.to_string()),
    };
    let Some(package) = ctx.ask.answer("Android package (empty when it has none)", None, &id)? else {
        return Ok(());
    };
    let bundle = |answer: &str| match answer {
        "" => Ok(()),
        id => check_bundle_id(id).map_err(|error| error.to_string()),
    };
    let Some(bundle_id) = ctx.ask.answer("iOS bundle id (empty when it has none)", None, &bundle)? else {
        return Ok(());
    };
    request.package = Some(package).filter(|id| !id.is_empty());
    request.bundle_id = Some(bundle_id).filter(|id| !id.is_empty());
    let sides = [(Platform::Android, &request.package), (Platform::Ios, &request.bundle_id)];
    let mut known: Vec<Destination> = Vec::new();
    for (platform, _) in sides.into_iter().filter(|(_, id)| id.is_some()) {
        let new = platform.destinations().iter().filter(|destination| !known.contains(destination));
        let new: Vec<Destination> = new.copied().collect();
        known.extend(new);
    }
    let words: Vec<String> = known.iter().map(ToString::to_string).collect();
    let read = |answer: &str| -> Result<Vec<Destination>, String> {
        let words = answer.split([',', ' ']).filter(|word| !word.is_empty());
        words.map(|word| word.parse::<Destination>().map_err(|error| error.to_string())).collect()
    };
    let judge = |answer: &str| match read(answer)?.into_iter().find(|one| !known.contains(one)) {
        Some(other) => Err(format!("{other} is not one of them: {}", words.join(", "))),
        None => Ok(()),
    };
    if request.destinations.is_empty() && !known.is_empty() {
        let usual = words.first().map_or("", String::as_str);
        let question = format!("Where do its builds go, the usual place first ({})", words.join(", "));
        let answer = ctx.ask.answer(&question, Some(usual), &judge)?;
        request.destinations = answer.and_then(|answer| read(&answer).ok()).unwrap_or_default();
    }
    Ok(())
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
                return Err(IdError::Taken { id: id.clone(), app: name.to_string() }.into());
            }
        }
    }
    Ok(())
}

fn insert(
    file: &ProjectFile,
    document: &mut DocumentMut,
    request: &Request,
    ios: &Read<'_>,
) -> Result<(), AppAddError> {
    let mut table = table(request, ios)?;
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

fn table(request: &Request, says: &Read<'_>) -> Result<Table, AppAddError> {
    let mut table = Table::new();
    table.insert("title", value(request.title.clone().unwrap_or_else(|| capitalised(&request.name))));
    if let Some(version) = &request.version {
        table.insert("version", value(version));
    }
    let android = side(request, Platform::Android)?;
    let ios = side(request, Platform::Ios)?;
    for (name, key, id, destinations) in
        [("android", "package", &request.package, android), ("ios", "bundle-id", &request.bundle_id, ios)]
    {
        if let Some(id) = id {
            let mut side = Table::new();
            side.insert(key, value(id));
            side.insert("destinations", value(destinations));
            if name == "ios" {
                says.write(&mut side, &[]);
            }
            table.insert(name, Item::Table(side));
        }
    }
    // a new table takes all of it
    let _ = review::write_says(&mut table, &request.review);
    Ok(table)
}

/// The destinations that were asked for and that this side has; all that were asked for must have a side.
fn side(request: &Request, platform: Platform) -> Result<Array, AppAddError> {
    let sides = [(Platform::Android, &request.package), (Platform::Ios, &request.bundle_id)];
    let there = || sides.iter().filter(|(_, id)| id.is_some()).map(|(platform, _)| *platform);
    for destination in &request.destinations {
        if !there().any(|platform| platform.has(*destination)) {
            let missing = Platform::ALL.into_iter().find(|other| other.has(*destination));
            let side = missing.unwrap_or(platform);
            return Err(AppAddError::Destination { destination: *destination, side });
        }
    }
    let wanted = request.destinations.iter().filter(|destination| platform.has(**destination));
    Ok(wanted.map(ToString::to_string).collect())
}

/// Refuses an id that no platform takes.
pub(crate) fn check_id(id: &str) -> Result<(), IdError> {
    let part = |part: &str| {
        !part.is_empty() && part.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-'))
    };
    let good = id.len() <= 255 && id.contains('.') && id.split('.').all(part);
    if good { Ok(()) } else { Err(IdError::Shape(id.into())) }
}

/// Refuses a bundle id that the platform does not take. One for several apps ends in a wildcard.
pub(crate) fn check_bundle_id(id: &str) -> Result<(), IdError> {
    if let Some((team, without)) = id.split_once('.')
        && is_team(team)
    {
        return Err(IdError::TeamPrefix { id: id.into(), without: without.into() });
    }
    match id.strip_suffix(".*") {
        Some(beginning) if !beginning.is_empty() => check_id(&format!("{beginning}.x")),
        _ => check_id(id),
    }
    .map_err(|_| IdError::Shape(id.into()))
}

fn capitalised(name: &str) -> String {
    let mut letters = name.chars();
    letters
        .next()
        .map(|first| first.to_uppercase().collect::<String>() + letters.as_str())
        .unwrap_or_default()
}
