//! `releases`: the ledger of what was signed with what, and what changed from one to the next.

use std::collections::BTreeSet;

use jiff::Timestamp;
use ninekeys_core::model::{Destination, ReleaseFacts, replaced};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::difference::{Compared, Difference};
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

/// What changed, for each app and destination.
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
    /// What is other.
    #[serde(flatten)]
    pub difference: Difference,
    /// Whether a row is of a version that did not keep all of it.
    pub unknown: bool,
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
    fn compared(release: &ReleaseFacts) -> Compared<'_> {
        Compared {
            size: release.size,
            is_packed: !release.file.ends_with(".app"),
            seen: release.seen.as_deref(),
            folders: &release.folders,
        }
    }
    let is_told = |release: &ReleaseFacts| release.seen.is_some() && !release.folders.is_empty();
    Comparison {
        app: last.app.clone(),
        destination: last.destination,
        file: last.file.clone(),
        before: before.map(|release| release.file.clone()),
        difference: compared(last).difference(before.map(compared)),
        unknown: !is_told(last) || before.is_some_and(|release| !is_told(release)),
    }
}
