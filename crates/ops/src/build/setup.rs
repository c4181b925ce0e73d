//! `check --app` and `check --all`: whether everything is in place before there is a build.

use jiff::Timestamp;
use ninekeys_cabinet::CabinetError;
use ninekeys_core::ios::setup::{Part, Roster, Setup, Wanted};
use ninekeys_core::model::{App, Destination, Inventory, Platform, Project};
use ninekeys_core::revocation::Revocations;
use ninekeys_core::rules::{CabinetLook, check_cabinet, check_setup};
use ninekeys_formats::x509::Certificate;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::advice;
use crate::answers::Verdict;
use crate::cabinet::own_files::own_files;
use crate::cabinet::status::standing;
use crate::ctx::{Ctx, OpenError};
use crate::identity::{self, CertificatesError, IdentitySaid};
use crate::portal::ConnectError;
use crate::project::ProjectError;
use crate::revocation;

/// What is to be checked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Request {
    /// An app, for one destination or for all that it has.
    App {
        /// Its name.
        app: String,
        /// Where its builds go.
        destination: Option<Destination>,
    },
    /// Every app, and the cabinet itself.
    All,
}

/// What was found.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CheckSetupReport {
    /// Whether nothing speaks against any of it.
    pub ready: bool,
    /// What each app needs for each destination.
    pub setups: Vec<SetupSaid>,
    /// What was found of the cabinet itself, where all was looked at.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cabinet: Option<Verdict>,
    /// The time of the check.
    pub at: Timestamp,
}

/// What an app needs for a destination.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SetupSaid {
    /// Whether nothing speaks against it.
    pub ready: bool,
    /// The app's name.
    pub app: String,
    /// What people call it.
    pub title: String,
    /// Its platform.
    pub platform: Platform,
    /// Where its builds go.
    pub destination: Destination,
    /// The team that it belongs to, if the project says.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// The identity that would sign.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub identity: Option<IdentitySaid>,
    /// The app and what is inside it, with the profile of each.
    pub parts: Vec<PartSaid>,
    /// The findings and how many rules looked.
    pub verdict: Verdict,
}

/// One bundle id.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PartSaid {
    /// Its bundle id.
    pub bundle_id: String,
    /// The extension's name; nothing for the app itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub extension: Option<String>,
    /// The profile that would be embedded.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profile: Option<TakenProfile>,
}

/// The profile that is taken.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenProfile {
    /// Its name in the cabinet.
    pub profile: String,
    /// What it is called in the file.
    pub title: String,
    /// Until when it is good.
    pub not_after: Timestamp,
    /// How many devices it allows.
    pub devices: usize,
}

/// Why it was not checked.
#[derive(Debug, Error)]
pub enum CheckSetupError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The project file has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The app has no iOS side.
    #[error(
        "{0} has no iOS side in the project file, and what its Android side needs is checked with a build"
    )]
    NotIos(String),
    /// The app has no iOS builds that go there.
    #[error("builds for {destination} are not for iOS")]
    Destination {
        /// Where they go.
        destination: Destination,
    },
    /// The project's roots.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
    /// What the project pins.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet could not be read.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// What the setups are held against.
struct Background<'a> {
    project: &'a Project,
    inventory: &'a Inventory,
    roster: &'a Roster<'a>,
    roots: &'a [Certificate],
    pool: &'a [Certificate],
    revocations: &'a Revocations,
    now: Timestamp,
}

/// The places that were asked for: an app and a destination each.
fn places<'a>(
    project: &'a Project,
    request: &Request,
) -> Result<Vec<(&'a str, &'a App, Destination)>, CheckSetupError> {
    let of = |name: &'a str, app: &'a App| {
        let own = app.ios.as_ref().map(|ios| ios.destinations.as_slice()).unwrap_or_default();
        // nothing said means the usual place
        let usual =
            Platform::Ios.destinations().iter().take(usize::from(own.is_empty() && app.ios.is_some()));
        own.iter().chain(usual).map(move |to| (name, app, *to)).collect::<Vec<_>>()
    };
    match request {
        Request::All => Ok(project.apps.iter().flat_map(|(name, app)| of(name, app)).collect()),
        Request::App { app, destination } => {
            let unknown = || CheckSetupError::UnknownApp(app.clone());
            let (name, app) = project.app(app).ok_or_else(unknown)?;
            if app.ios.is_none() {
                return Err(CheckSetupError::NotIos(app.title.clone()));
            }
            match destination {
                Some(to) if !Platform::Ios.has(*to) => Err(CheckSetupError::Destination { destination: *to }),
                Some(to) => Ok(vec![(name, app, *to)]),
                None => Ok(of(name, app)),
            }
        }
    }
}

/// Checks what is in place. Nothing is unlocked.
///
/// # Errors
/// [`CheckSetupError`] when project file or cabinet cannot be read.
pub fn check_setups(ctx: &Ctx<'_>, request: &Request) -> Result<CheckSetupReport, CheckSetupError> {
    let file = ctx.project_file()?;
    // what is for a store that is named is for no other destination
    let asked = match request {
        Request::App { app, destination } => {
            Request::App { app: app.clone(), destination: ctx.destination(*destination)? }
        }
        Request::All => Request::All,
    };
    let places = places(&file.project, &asked)?;
    let roots = identity::roots(Some(&file))?;
    let cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let mut pool = identity::authorities(&inventory);
    pool.extend(roots.iter().cloned());
    let roster = Roster::of(&inventory);
    let revocations = revocation::learn(ctx, &file, &inventory, &roster, &roots, &pool)?;
    let background = Background {
        project: &file.project,
        inventory: &inventory,
        roster: &roster,
        roots: &roots,
        pool: &pool,
        revocations: &revocations,
        now: ctx.env.now,
    };
    let setups: Vec<SetupSaid> =
        places.into_par_iter().filter_map(|(name, app, to)| setup(&background, name, app, to)).collect();
    let cabinet = match request {
        Request::App { .. } => None,
        Request::All => {
            let files = own_files(ctx)?;
            let look = CabinetLook {
                files: &files,
                inventory: &inventory,
                last_backup: cabinet.last_backup(),
                off_site: cabinet.off_site_backup(),
                standing: standing(cabinet.standing()),
                now: ctx.env.now,
            };
            Some(check_cabinet(&look).map(advice::in_general))
        }
    };
    let ready = setups.iter().all(|one| one.ready) && cabinet.as_ref().is_none_or(Verdict::is_ready);
    Ok(CheckSetupReport { ready, setups, cabinet, at: ctx.env.now })
}

fn setup(background: &Background<'_>, name: &str, app: &App, destination: Destination) -> Option<SetupSaid> {
    let ios = app.ios.as_ref()?;
    let team = background.project.team_of(ios);
    let setup = Setup::of(Wanted {
        app: name,
        title: &app.title,
        ios,
        destination,
        team,
        policy: &background.project.policy,
        inventory: background.inventory,
        roster: background.roster,
        roots: background.roots,
        pool: background.pool,
        revocations: background.revocations,
        now: background.now,
    });
    let verdict = check_setup(&setup).map(advice::in_general);
    let project = Some(background.project);
    Some(SetupSaid {
        ready: verdict.is_ready(),
        app: name.into(),
        title: app.title.clone(),
        platform: Platform::Ios,
        destination,
        team: team.map(str::to_owned),
        identity: setup
            .taken()
            .map(|taken| identity::said(background.inventory, &taken.item.name, taken.facts, project)),
        parts: setup.parts.iter().map(part).collect(),
        verdict,
    })
}

fn part(part: &Part<'_>) -> PartSaid {
    let taken = part.taken().map(|choice| TakenProfile {
        profile: choice.item.name.clone(),
        title: choice.facts.title.clone(),
        not_after: choice.facts.not_after,
        devices: choice.facts.devices.len() + choice.facts.foreign_devices.len(),
    });
    PartSaid {
        bundle_id: part.bundle_id.into(),
        extension: part.extension.map(str::to_owned),
        profile: taken,
    }
}
