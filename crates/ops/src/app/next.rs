//! `app next`: the version and the number that the next build should have, from what was signed and what is at the store.

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::model::{ApiUse, App, BuildNumber, Platform};
use ninekeys_core::next::{Earlier, Next, next};
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::Delivery;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::portal::{ConnectError, can_ask, with_store};
use crate::project::{ProjectError, ProjectFile};

/// What the next builds of an app should have.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AppNextReport {
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// Its name.
    pub app: String,
    /// What people call it.
    pub title: String,
    /// Its sides, Android first.
    pub sides: Vec<Side>,
    /// Whether the store was asked: else its builds do not count.
    pub store_asked: bool,
    /// The time of the answer.
    pub at: Timestamp,
}

/// One side of an app.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Side {
    /// Which.
    pub platform: Platform,
    /// The next build.
    #[serde(flatten)]
    pub next: Next,
    /// The highest number that was signed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub signed: Option<BuildNumber>,
    /// The highest number that is at the store.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delivered: Option<BuildNumber>,
}

/// Why it cannot be told.
#[derive(Debug, Error)]
pub enum AppNextError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// It has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The store cannot be asked.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The store did not answer.
    #[error(transparent)]
    Store(#[from] PortalError),
}

/// Tells the next version and number of each side of an app. Where the project names a store and a key may ask it, it is asked: that
/// takes unlocking. `ledger_alone` leaves it out.
///
/// # Errors
/// [`AppNextError`].
pub fn app_next(ctx: &Ctx<'_>, app: &str, ledger_alone: bool) -> Result<AppNextReport, AppNextError> {
    let file = ctx.project_file()?;
    let found = file.project.app(app).ok_or_else(|| AppNextError::UnknownApp(app.into()))?;
    let (name, app) = found;
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let store_asked = !ledger_alone && can_ask(&file.project, &inventory, ApiUse::Uploads, Some(name));
    if store_asked {
        ctx.unlock(&mut cabinet)?;
    }
    let sides = sides::<AppNextError>(ctx, &cabinet, &file, (name, app), store_asked)?;
    Ok(AppNextReport {
        store: ctx.store.clone(),
        app: name.to_owned(),
        title: app.title.clone(),
        sides,
        store_asked,
        at: ctx.env.now,
    })
}

/// The next builds of an app; the store is asked through a cabinet that is unlocked.
pub(crate) fn sides<E: From<ConnectError> + From<PortalError> + From<CabinetError>>(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    file: &ProjectFile,
    (name, app): (&str, &App),
    store_asked: bool,
) -> Result<Vec<Side>, E> {
    let mut delivered: Vec<Delivery> = Vec::new();
    if store_asked {
        delivered = with_store(ctx, cabinet, file, (ApiUse::Uploads, Some(name)), |store| {
            Ok::<_, E>(store.deliveries()?)
        })?;
    }
    let inventory = cabinet.inventory()?;
    let ledger = inventory.releases();
    let side = |platform: Platform| {
        let id = app.side(platform)?.id;
        let signed = ledger.iter().filter(|one| one.platform == platform && one.id == id);
        let signed: Vec<Earlier> = signed.map(|one| Earlier::signed(one)).collect();
        let there = delivered.iter().filter(|one| one.counts_for(platform, id));
        let there: Vec<Earlier> = there.map(Delivery::earlier).collect();
        let highest = |all: &[Earlier]| all.iter().map(|one| one.number.clone()).max();
        let (highest_signed, highest_there) = (highest(&signed), highest(&there));
        let next = next(platform, &[signed, there].concat(), app.version.as_deref());
        Some(Side { platform, next, signed: highest_signed, delivered: highest_there })
    };
    Ok([Platform::Android, Platform::Ios].into_iter().filter_map(side).collect())
}
