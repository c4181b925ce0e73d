//! `releases`: the ledger of what was signed with what, and how sizes changed.

use std::collections::BTreeSet;

use jiff::Timestamp;
use ninekeys_core::model::{Destination, ReleaseFacts, replaced};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// The ledger.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ReleasesReport {
    /// The releases, newest first.
    pub releases: Vec<Release>,
    /// The time of the look.
    pub at: Timestamp,
}

/// A row of the ledger.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Release {
    /// What it says.
    #[serde(flatten)]
    pub facts: ReleaseFacts,
    /// Whether another one took its place.
    pub replaced: bool,
}

/// How sizes changed, for each app and destination.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ReleasesCompareReport {
    /// One comparison an app and destination.
    pub comparisons: Vec<Comparison>,
    /// The time of the look.
    pub at: Timestamp,
}

/// The last release against the one before it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Comparison {
    /// The app's name.
    pub app: String,
    /// Where both went.
    pub destination: Destination,
    /// The file name of the last one.
    pub file: String,
    /// The file name of the one before; nothing when there is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// Its size, in bytes.
    pub size: u64,
    /// The size of the one before, in bytes; 0 when there is none.
    pub size_before: u64,
    /// What stands at the top level, the largest change first.
    pub folders: Vec<FolderChange>,
    /// Whether a row is of a version that did not keep what is at the top level.
    pub unknown: bool,
}

/// One folder or file at the top level. Sizes are as they stand in the build, compressed, in bytes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FolderChange {
    /// Its name; a folder's ends with a stroke.
    pub name: String,
    /// Its size before; 0 when it is new.
    pub before: u64,
    /// Its size now; 0 when it is gone.
    pub now: u64,
}

impl FolderChange {
    /// How much larger it is.
    pub fn change(&self) -> i64 {
        i64::try_from(self.now).unwrap_or(i64::MAX) - i64::try_from(self.before).unwrap_or(i64::MAX)
    }
}

/// Why it could not be read.
#[derive(Debug, Error)]
pub enum ReleasesError {
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// Neither the project file nor the ledger knows the app.
    #[error("the project file has no app called {0}, and nothing was signed for one")]
    UnknownApp(String),
}

/// Reads the ledger, of one app if one is named.
///
/// # Errors
/// [`ReleasesError`].
pub fn releases(ctx: &Ctx<'_>, app: Option<&str>) -> Result<ReleasesReport, ReleasesError> {
    let inventory = ctx.look()?.inventory;
    let known = inventory.releases();
    let app = match app {
        Some(named) => Some(find_app(ctx, &known, named)?),
        None => None,
    };
    let wanted = |release: &&ReleaseFacts| app.as_ref().is_none_or(|app| release.app == *app);
    let with_end = known.iter().zip(replaced(&known)).filter(|(release, _)| wanted(release));
    let row = |(release, replaced): (&&ReleaseFacts, bool)| Release { facts: (*release).clone(), replaced };
    let mut releases: Vec<Release> = with_end.map(row).collect();
    releases.reverse();
    Ok(ReleasesReport { releases, at: ctx.env.now })
}

/// An app of the project file, or one that something was signed for.
fn find_app(ctx: &Ctx<'_>, known: &[&ReleaseFacts], named: &str) -> Result<String, ReleasesError> {
    if let Some(file) = ctx.project_if_any()?
        && let Some((name, _)) = file.project.app(named)
    {
        return Ok(name.to_owned());
    }
    let is_known = known.iter().any(|release| release.app == named);
    if is_known { Ok(named.to_owned()) } else { Err(ReleasesError::UnknownApp(named.to_owned())) }
}

/// Compares the last release of every app and destination with the one before it. A build that was signed again
/// under the same name is the same release.
///
/// # Errors
/// [`ReleasesError`].
pub fn compare_releases(ctx: &Ctx<'_>, app: Option<&str>) -> Result<ReleasesCompareReport, ReleasesError> {
    let ReleasesReport { releases, at } = releases(ctx, app)?;
    let releases: Vec<&ReleaseFacts> = releases.iter().map(|release| &release.facts).collect();
    let ways: BTreeSet<(&str, Destination)> =
        releases.iter().map(|release| (release.app.as_str(), release.destination)).collect();
    let comparisons = ways.into_iter().filter_map(|(app, destination)| {
        let mut own = releases.iter().copied().filter(|r| r.app == app && r.destination == destination);
        let last = own.next()?;
        Some(comparison(last, own.find(|release| release.file != last.file)))
    });
    Ok(ReleasesCompareReport { comparisons: comparisons.collect(), at })
}

fn comparison(last: &ReleaseFacts, before: Option<&ReleaseFacts>) -> Comparison {
    let size_in = |release: Option<&ReleaseFacts>, name: &str| {
        release.and_then(|release| release.folders.get(name).copied()).unwrap_or(0)
    };
    let names: BTreeSet<&String> =
        last.folders.keys().chain(before.iter().flat_map(|release| release.folders.keys())).collect();
    let mut folders: Vec<FolderChange> = names
        .into_iter()
        .map(|name| FolderChange {
            name: name.clone(),
            before: size_in(before, name),
            now: size_in(Some(last), name),
        })
        .collect();
    folders.sort_by(|a, b| b.change().abs().cmp(&a.change().abs()).then_with(|| a.name.cmp(&b.name)));
    Comparison {
        app: last.app.clone(),
        destination: last.destination,
        file: last.file.clone(),
        before: before.map(|release| release.file.clone()),
        size: last.size,
        size_before: before.map_or(0, |release| release.size),
        folders,
        unknown: last.folders.is_empty() || before.is_some_and(|release| release.folders.is_empty()),
    }
}
