//! `apikey ask`: access that somebody else has to grant, written down until it comes.

use ninekeys_cabinet::{CabinetError, NewItem};
use ninekeys_core::model::{
    ApiKeyFacts, ApiRole, ApiUse, Facts, NameError, Service, check_name, check_title,
};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::ApiKeySaid;
use crate::apikey;
use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// What was asked for.
#[derive(Debug)]
pub struct Request {
    /// What it is called.
    pub name: String,
    /// Who has to grant it.
    pub asked_of: String,
    /// What it has to be able to do; the smallest role for its uses when nothing is said.
    pub role: Option<ApiRole>,
    /// What it will be used for.
    pub uses: Vec<ApiUse>,
}

/// What is waited for.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ApiKeyAskReport {
    /// The API key that is waited for.
    #[serde(flatten)]
    pub api_key: ApiKeySaid,
}

/// Why it was not written down.
#[derive(Debug, Error)]
pub enum ApiKeyAskError {
    /// A name.
    #[error(transparent)]
    Name(#[from] NameError),
    /// Who has to grant it cannot be called that.
    #[error("who has to grant it: {0}")]
    Person(NameError),
    /// Neither a role nor a use.
    #[error("nothing says what it has to be able to do")]
    NoRole,
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

/// Writes down that access was asked for, of whom, and when.
///
/// # Errors
/// [`ApiKeyAskError`]; then the cabinet is as it was.
pub fn apikey_ask(ctx: &Ctx<'_>, request: Request) -> Result<ApiKeyAskReport, ApiKeyAskError> {
    check_name(&request.name)?;
    check_title(&request.asked_of).map_err(ApiKeyAskError::Person)?;
    let needed = request.uses.iter().map(|one| one.needs()).max();
    let role = request.role.or(needed).ok_or(ApiKeyAskError::NoRole)?;
    let facts = ApiKeyFacts {
        service: Service::Store,
        key_id: String::new(),
        issuer: String::new(),
        role: role.to_string(),
        uses: request.uses,
        audience: None,
        vendor_number: None,
        store: ctx.store.clone(),
        label: None,
        asked_of: Some(request.asked_of),
        key: None,
        apps: Vec::new(),
    };
    let project = ctx.project_if_any()?;
    let mut cabinet = ctx.open_unlocked()?;
    let name = request.name;
    let id = cabinet.change(&format!("apikey ask {name}"), &ctx.env, |change| {
        change.put(NewItem::new(name.as_str(), Facts::ApiKey(Box::new(facts)), None))
    })?;
    Ok(ApiKeyAskReport { api_key: apikey::told(&cabinet, &id, project.as_ref())? })
}
