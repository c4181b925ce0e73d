//! `apikey retire`: a key that makes no tokens any more, and that is kept.

use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::State;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{ApiKeySaid, FindError};
use crate::apikey;
use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// What it is now.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ApiKeyRetireReport {
    /// The API key.
    #[serde(flatten)]
    pub api_key: ApiKeySaid,
}

/// Why it stays as it is.
#[derive(Debug, Error)]
pub enum ApiKeyRetireError {
    /// The API key.
    #[error(transparent)]
    Find(#[from] FindError),
    /// It is that already.
    #[error("{name} is {} already", if *state == State::Retired { "retired" } else { "in use" })]
    Already {
        /// Its name.
        name: String,
        /// What it is.
        state: State,
    },
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Retires an API key, or takes it back into use.
///
/// # Errors
/// [`ApiKeyRetireError`]; then the cabinet is as it was.
pub fn apikey_retire(ctx: &Ctx<'_>, name: &str, back: bool) -> Result<ApiKeyRetireReport, ApiKeyRetireError> {
    let state = if back { State::Active } else { State::Retired };
    let project = ctx.project_if_any()?;
    let mut cabinet = ctx.open()?;
    apikey::find(&*cabinet.inventory()?, name)?;
    ctx.unlock(&mut cabinet)?;
    let what = format!("apikey retire {name}{}", if back { " --back" } else { "" });
    let id = cabinet.change(&what, &ctx.env, |change| {
        let inventory = change.inventory();
        let (item, _) = apikey::find(&inventory, name)?;
        if item.state == state {
            return Err(ApiKeyRetireError::Already { name: item.name.clone(), state });
        }
        let mut item = item.clone();
        item.state = state;
        change.revise(&item, None)?;
        Ok(item.id)
    })?;
    Ok(ApiKeyRetireReport { api_key: apikey::told(&cabinet, &id, project.as_ref())? })
}
