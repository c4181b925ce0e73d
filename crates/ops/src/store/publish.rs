//! `app add --publish`, `app change --publish`: an app is made known to the store.

use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::{ApiUse, Platform};
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::Record;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{StoreRefusal, refusal};
use crate::app::PublishSays;
use crate::ctx::{Ctx, OpenError};
use crate::portal::{ConnectError, with_store};
use crate::project::ProjectError;

/// What the store knows now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Published {
    /// The app at the store.
    pub record: Record,
    /// Whether it was there already.
    pub known: bool,
}

/// Why the store does not know it.
#[derive(Debug, Error)]
pub enum PublishError {
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
    /// The store did not do it.
    #[error(transparent)]
    Store(PortalError),
    /// It does not take it.
    #[error(transparent)]
    Refused(#[from] StoreRefusal),
}

impl From<PortalError> for PublishError {
    fn from(error: PortalError) -> Self {
        refusal(error).map_or_else(Self::Store, Self::Refused)
    }
}

/// Makes both sides of an app known to the store, as far as it has them; what is there stays as it is.
///
/// # Errors
/// [`PublishError`]; a side that was made known before the error stays.
pub(crate) fn publish(ctx: &Ctx<'_>, app: &str, says: &PublishSays) -> Result<Vec<Published>, PublishError> {
    let file = ctx.project_file()?;
    let (name, app) = file.project.app(app).ok_or_else(|| PublishError::UnknownApp(app.into()))?;
    let sku = says.sku.clone().unwrap_or_else(|| name.to_owned());
    let language = says.language.clone().unwrap_or_else(|| "en".into());
    let sides: Vec<(Platform, &str)> = [Platform::Android, Platform::Ios]
        .into_iter()
        .filter_map(|platform| app.side(platform).map(|side| (platform, side.id)))
        .collect();
    let mut cabinet = ctx.open_unlocked()?;
    let what = format!("app {name}: published");
    cabinet.change(&what, &ctx.env, |_| Ok::<_, CabinetError>(()))?;
    with_store(ctx, &cabinet, &file, (ApiUse::Signing, Some(name)), |store| {
        let known = store.records()?;
        let mut out = Vec::new();
        for (platform, id) in &sides {
            let there = known.iter().find(|one| one.id == *id && one.platform == *platform);
            let record = match there {
                Some(record) => record.clone(),
                None => store.new_record(&Record {
                    id: (*id).to_owned(),
                    platform: *platform,
                    title: app.title.clone(),
                    // the account has each SKU once, and an app may have two sides
                    sku: if sides.len() > 1 { format!("{sku}-{platform}") } else { sku.clone() },
                    language: language.clone(),
                    seen_by: says.seen_by.clone(),
                })?,
            };
            out.push(Published { record, known: there.is_some() });
        }
        Ok(out)
    })
}
