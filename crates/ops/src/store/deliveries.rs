//! `deliveries`: what is at the store, and how far it is.

use std::sync::Arc;

use jiff::Timestamp;
use ninekeys_core::model::{ApiUse, Inventory};
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::Delivery;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{Among, DeliverySaid};
use crate::ctx::{Ctx, OpenError};
use crate::portal::{ConnectError, with_store};
use crate::project::{ProjectError, ProjectFile};

/// What is at the store.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DeliveriesReport {
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
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

/// What the store has, beside what is known here.
pub(super) struct AtStore {
    pub(super) file: ProjectFile,
    /// The app that was asked for, by its whole name.
    pub(super) app: Option<String>,
    pub(super) inventory: Arc<Inventory>,
    pub(super) all: Vec<Delivery>,
}

/// Asks the store for everything that it has, with a key that may ask about an app, where one is named.
pub(super) fn at_store(ctx: &Ctx<'_>, app: Option<&str>) -> Result<AtStore, DeliveriesError> {
    let file = ctx.project_file()?;
    let found = app.map(|app| file.project.app(app).ok_or_else(|| DeliveriesError::UnknownApp(app.into())));
    let app = found.transpose()?.map(|(name, _)| name.to_owned());
    let cabinet = ctx.open_unlocked()?;
    let all = with_store(ctx, &cabinet, &file, (ApiUse::Uploads, app.as_deref()), |store| {
        Ok::<_, DeliveriesError>(store.deliveries()?)
    })?;
    let inventory =
        cabinet.inventory().map_err(|cause| OpenError::Cabinet { path: cabinet.path().to_owned(), cause })?;
    Ok(AtStore { file, app, inventory, all })
}

/// Asks the store what it has, of one app or of all.
///
/// # Errors
/// [`DeliveriesError`].
pub fn deliveries(ctx: &Ctx<'_>, app: Option<&str>) -> Result<DeliveriesReport, DeliveriesError> {
    let AtStore { file, app, inventory, all } = at_store(ctx, app)?;
    let ledger = inventory.releases();
    let among = Among::of(&all, &file.project, &ledger);
    let told = all.iter().map(|one| among.said(one));
    let is_of = |one: &DeliverySaid| app.is_none() || one.app.as_ref().map(|said| &said.app) == app.as_ref();
    Ok(DeliveriesReport {
        store: ctx.store.clone(),
        deliveries: told.filter(is_of).collect(),
        at: ctx.env.now,
    })
}
