//! `deliveries`: what is at the store, and how far it is.

use jiff::Timestamp;
use ninekeys_core::model::ApiUse;
use ninekeys_portal::client::PortalError;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{DeliverySaid, id_of, said};
use crate::ctx::{Ctx, OpenError};
use crate::portal::{ConnectError, with_store};
use crate::project::ProjectError;

/// What is at the store.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DeliveriesReport {
    /// The builds, the newest first.
    pub deliveries: Vec<DeliverySaid>,
    /// The time of the answer.
    pub at: Timestamp,
}

/// Why it cannot be told.
#[derive(Debug, Error)]
pub enum DeliveriesError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// It has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The store cannot be asked.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The store did not answer.
    #[error(transparent)]
    Store(#[from] PortalError),
}

/// Asks the store what it has, of one app or of all.
///
/// # Errors
/// [`DeliveriesError`].
pub fn deliveries(ctx: &Ctx<'_>, app: Option<&str>) -> Result<DeliveriesReport, DeliveriesError> {
    let file = ctx.project_file()?;
    let wanted = app.map(|app| file.project.app(app).ok_or_else(|| DeliveriesError::UnknownApp(app.into())));
    let wanted = wanted.transpose()?;
    let mut cabinet = ctx.open()?;
    ctx.unlock(&mut cabinet)?;
    let name = wanted.map(|(name, _)| name);
    let all = with_store(ctx, &cabinet, &file, (ApiUse::Uploads, name), |store| {
        Ok::<_, DeliveriesError>(store.deliveries()?)
    })?;
    let inventory =
        cabinet.inventory().map_err(|cause| OpenError::Cabinet { path: cabinet.path().to_owned(), cause })?;
    let ledger = inventory.releases();
    let is_of = |one: &&ninekeys_portal::store::Delivery| {
        wanted.is_none_or(|(_, app)| id_of(app, one.platform) == Some(&one.id))
    };
    let told = all.iter().filter(is_of).map(|one| said(one, &all, &file.project, &ledger)).collect();
    Ok(DeliveriesReport { deliveries: told, at: ctx.env.now })
}
