//! `profile create` and `profile renew`: a profile made by the portal, with the identity and the devices that there are.

use ninekeys_core::ios::profile::is_for;
use ninekeys_core::ios::setup::Part;
use ninekeys_core::model::{ApiUse, App, Destination, Platform};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{FindError, ProfileSaid};
use crate::ask::AskError;
use crate::ctx::Ctx;
use crate::identity::{self, IdentitySaid};
use crate::portal::{self, ConnectError};
use crate::prepare::by_portal::{Which, get_profiles, register};
use crate::prepare::{Job, PrepareError, Step, is_wanted};
use crate::profile;
use crate::project::ProjectFile;

/// The profile to be made.
#[derive(Debug)]
pub enum Request {
    /// For an app and a destination.
    Create {
        /// The app.
        app: String,
        /// What builds with it are for.
        destination: Destination,
        /// The identity that it is to name, where several could be.
        identity: Option<String>,
    },
    /// In the place of one that is there.
    Renew {
        /// Its name.
        profile: String,
    },
}

/// What was made.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ProfileCreateReport {
    /// The profiles: the app's, and those of what is inside it.
    pub profiles: Vec<ProfileSaid>,
    /// The identity that they name.
    pub identity: IdentitySaid,
    /// Whether somebody chose it; else it is the one that ends last.
    pub chosen: bool,
    /// Others that would have fitted.
    pub passed_over: Vec<IdentitySaid>,
    /// What else was done at the portal for it.
    pub steps: Vec<Step>,
    /// The time of this report.
    pub at: jiff::Timestamp,
}

/// Why none was made.
#[derive(Debug, Error)]
pub enum ProfileCreateError {
    /// The profile to be renewed.
    #[error(transparent)]
    Find(#[from] FindError),
    /// A profile for no app of the project file.
    #[error("{0} is for no app of the project file")]
    NoApp(String),
    /// One that fits is there.
    #[error("{0} fits already")]
    Fits(String),
    /// No identity can sign for the destination.
    #[error("there is no identity that could sign for {}", destination.phrase())]
    NoIdentity {
        /// The app.
        app: String,
        /// The destination.
        destination: Destination,
    },
    /// The identity that was named cannot sign for the destination.
    #[error("{name} cannot sign for {}; {} can", destination.phrase(), usable.join(", "))]
    NotUsable {
        /// What was named.
        name: String,
        /// The destination.
        destination: Destination,
        /// Those that can.
        usable: Vec<String>,
    },
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The rest of the way is that of `prepare`.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
}

/// The app, the destination, and the bundle id whose profile is made anew.
fn wanted<'a>(
    ctx: &Ctx<'_>,
    file: &'a ProjectFile,
    request: &Request,
) -> Result<(&'a str, &'a App, Destination, Option<String>), ProfileCreateError> {
    match request {
        Request::Create { app, destination, .. } => {
            let unknown = || PrepareError::UnknownApp(app.clone());
            let (name, app) = file.project.app(app).ok_or_else(unknown)?;
            Ok((name, app, *destination, None))
        }
        Request::Renew { profile } => {
            let cabinet = ctx.open().map_err(PrepareError::from)?;
            let inventory = cabinet.inventory().map_err(PrepareError::from)?;
            let (item, facts) = profile::find(&inventory, profile)?;
            let apps = file.project.apps.iter();
            let mut own = apps.filter_map(|(name, app)| {
                let ios = app.ios.as_ref()?;
                let ids = std::iter::once(&ios.bundle_id).chain(ios.extensions.values());
                let id = ids.into_iter().find(|id| is_for(&facts.app_id, id))?;
                Some((name.as_str(), app, facts.destination, Some(id.clone())))
            });
            own.next().ok_or_else(|| ProfileCreateError::NoApp(item.name.clone()))
        }
    }
}

/// The identity that a profile is to name.
struct Choice {
    taken: IdentitySaid,
    serial: String,
    chosen: bool,
    passed_over: Vec<IdentitySaid>,
}

/// The one that was named, that a person says, or that ends last.
fn choose(
    ctx: &Ctx<'_>,
    job: &Job<'_>,
    request: &Request,
    mut usable: Vec<(IdentitySaid, String)>,
) -> Result<Choice, ProfileCreateError> {
    let destination = job.destination;
    let names: Vec<String> = usable.iter().map(|(said, _)| said.identity.clone()).collect();
    let [first, others @ ..] = names.as_slice() else {
        return Err(ProfileCreateError::NoIdentity { app: job.name.into(), destination });
    };
    let named = match request {
        Request::Create { identity: Some(named), .. } => Some(named.clone()),
        _ if others.is_empty() => None,
        _ => {
            let question = format!("Which identity: {} [{first}]", names.join(" or "));
            ctx.ask.line(&question)?.filter(|answer| !answer.is_empty())
        }
    };
    let index = match &named {
        None => 0,
        Some(named) => names.iter().position(|name| name.eq_ignore_ascii_case(named)).ok_or_else(|| {
            ProfileCreateError::NotUsable { name: named.clone(), destination, usable: names.clone() }
        })?,
    };
    let (taken, serial) = usable.remove(index);
    let passed_over = usable.into_iter().map(|(said, _)| said).collect();
    Ok(Choice { taken, serial, chosen: named.is_some(), passed_over })
}

/// Has a profile made.
///
/// # Errors
/// [`ProfileCreateError`]; what was registered at the portal before stays.
pub fn profile_create(ctx: &Ctx<'_>, request: &Request) -> Result<ProfileCreateReport, ProfileCreateError> {
    let file = ctx.project_file().map_err(PrepareError::from)?;
    let (name, app, destination, anew) = wanted(ctx, &file, request)?;
    let ios = app.ios.as_ref().ok_or_else(|| PrepareError::NotIos(app.title.clone()))?;
    if !Platform::Ios.has(destination) {
        return Err(PrepareError::Destination(destination).into());
    }
    let mut cabinet = ctx.open().map_err(PrepareError::from)?;
    let inventory = cabinet.inventory().map_err(PrepareError::from)?;
    if !portal::can_ask(&file.project, &inventory, ApiUse::Signing, Some(name)) {
        let missing = match file.project.portal {
            Some(_) => ConnectError::NoKey { role: ApiUse::Signing.needs(), store: None },
            None => ConnectError::NoAddress,
        };
        return Err(PrepareError::from(missing).into());
    }
    let job = Job::begin(ctx, &file, (name, app, ios), destination, &inventory)?;
    let (fits, identities) = job.look(&inventory, |setup| {
        let fits = anew.is_none() && setup.parts.iter().all(|part| !is_wanted(setup, part));
        let fits =
            setup.parts.first().and_then(Part::taken).filter(|_| fits).map(|one| one.item.name.clone());
        let usable = setup.identities.iter().filter(|one| one.against.is_empty());
        let said = usable.filter_map(|one| {
            let said = identity::said(&inventory, &one.item.name, one.facts, Some(job.project()));
            Some((said, one.certificate?.serial.clone()))
        });
        (fits, said.collect::<Vec<_>>())
    });
    if let Some(fits) = fits {
        return Err(ProfileCreateError::Fits(fits));
    }
    let choice = choose(ctx, &job, request, identities)?;
    ctx.unlock(&mut cabinet).map_err(PrepareError::from)?;
    let mut steps = Vec::new();
    let which = Which::Missing { anew: anew.as_deref() };
    let made = register(&job, &cabinet, &mut steps)
        .and_then(|()| get_profiles(&job, &mut cabinet, &which, Some(&choice.serial), &mut steps));
    let names = match made {
        Ok(names) => names,
        Err(cause) => return Err(cause.after(steps).into()),
    };
    let inventory = cabinet.inventory().map_err(PrepareError::from)?;
    let made = names.iter().filter_map(|name| {
        let (item, facts) = profile::find(&inventory, name).ok()?;
        Some(profile::said(&inventory, &item.name, facts, Some(job.project())))
    });
    Ok(ProfileCreateReport {
        profiles: made.collect(),
        identity: choice.taken,
        chosen: choice.chosen,
        passed_over: choice.passed_over,
        steps,
        at: ctx.env.now,
    })
}
