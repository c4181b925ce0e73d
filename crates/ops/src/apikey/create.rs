//! `apikey create`: a store API key made by the portal. Its private key can be fetched once: it is sealed before anything else
//! happens.

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::digest::{hex, sha256_hex};
use ninekeys_core::keys::{KeyError, PrivateKey, Signer};
use ninekeys_core::model::{
    ApiKeyFacts, ApiRole, ApiUse, Inventory, ItemId, KeyFacts, NameError, Service, check_name,
};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::secret::{Secret, SecretBytes};
use ninekeys_portal::client::PortalError;
use ninekeys_portal::wire::{ApiKey, FETCHED, NewApiKey};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{ApiKeySaid, IdError, check_id};
use crate::apikey;
use crate::ctx::{Ctx, OpenError};
use crate::identity;
use crate::portal::{ConnectError, with_portal};
use crate::project::{ProjectError, ProjectFile};

/// The key to be made.
#[derive(Debug)]
pub struct Request {
    /// What it is called.
    pub name: String,
    /// What it is used for.
    pub uses: Vec<ApiUse>,
    /// What it may do; the smallest role that its uses need when nothing is said.
    pub role: Option<ApiRole>,
    /// The apps that it is for, by name.
    pub apps: Vec<String>,
}

/// What was made.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ApiKeyCreateReport {
    /// The API key.
    #[serde(flatten)]
    pub api_key: ApiKeySaid,
}

/// Why none was made.
#[derive(Debug, Error)]
pub enum ApiKeyCreateError {
    /// Its name.
    #[error(transparent)]
    Name(#[from] NameError),
    /// Nobody said what it may do.
    #[error("neither a role nor a use was said: a key that may do everything is not made by chance")]
    NoRole,
    /// No such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// Its one download happened, and did not arrive.
    #[error(
        "the private key of {key_id} was fetched before and is not in this cabinet: what an earlier call asked for was cut off \
         on the way, and it cannot be fetched again"
    )]
    Lost {
        /// The key id.
        key_id: String,
    },
    /// What the portal calls it cannot be an id.
    #[error(transparent)]
    Id(#[from] IdError),
    /// The portal made it, and its private key is not in the cabinet.
    #[error("{cause}")]
    HalfWay {
        /// The key id.
        key_id: String,
        /// Why not.
        #[source]
        cause: Box<ApiKeyCreateError>,
    },
    /// What the portal gave out is no key.
    #[error("what the portal gave out is no private key")]
    Unreadable,
    /// The key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The portal cannot be asked.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The portal did not do it.
    #[error(transparent)]
    Portal(#[from] PortalError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Has an API key made, and seals its private key. One that was waited for under that name is what came.
///
/// # Errors
/// [`ApiKeyCreateError`]; then the cabinet is as it was.
pub fn apikey_create(ctx: &Ctx<'_>, request: &Request) -> Result<ApiKeyCreateReport, ApiKeyCreateError> {
    check_name(&request.name)?;
    let needed = request.uses.iter().map(|one| one.needs()).max();
    let role = request.role.or(needed).ok_or(ApiKeyCreateError::NoRole)?;
    let file = ctx.project_file()?;
    let of = |app: &String| {
        let found = file.project.app(app).map(|(name, _)| name.to_owned());
        found.ok_or_else(|| ApiKeyCreateError::UnknownApp(app.clone()))
    };
    let apps = request.apps.iter().map(of).collect::<Result<Vec<_>, _>>()?;
    let request = Request { apps, name: request.name.clone(), uses: request.uses.clone(), ..*request };
    let mut cabinet = ctx.open()?;
    let name = &request.name;
    if free(&*cabinet.inventory()?, name) != *name {
        return Err(CabinetError::NameTaken(name.clone()).into());
    }
    ctx.unlock(&mut cabinet)?;
    let id = create_in(ctx, &mut cabinet, &file, &request, role)?;
    Ok(ApiKeyCreateReport { api_key: apikey::told(&cabinet, &id, Some(&file))? })
}

/// The same in a cabinet that is unlocked already; tells the new item.
pub(crate) fn create_in(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    file: &ProjectFile,
    request: &Request,
    role: ApiRole,
) -> Result<ItemId, ApiKeyCreateError> {
    let name = &request.name;
    // one name in one cabinet is one call, however often it is made
    let call = sha256_hex(format!("{} {name} {role}", cabinet.identity()).as_bytes());
    let new = NewApiKey { title: name.clone(), role };
    let said = with_portal(ctx, cabinet, file, (ApiUse::Access, None), |portal| {
        Ok::<_, ApiKeyCreateError>(portal.new_api_key(&new, &format!("api-key-{call}"))?)
    })?;
    [&said.key_id, &said.issuer].into_iter().try_for_each(|id| check_id(id))?;
    let key_id = said.key_id.clone();
    take_in(ctx, cabinet, file, request, said).map_err(|cause| match cause {
        lost @ ApiKeyCreateError::Lost { .. } => lost,
        cause => ApiKeyCreateError::HalfWay { key_id, cause: Box::new(cause) },
    })
}

/// The name, where nothing has it but what is waited for; else the next that is free.
fn free(inventory: &Inventory, name: &str) -> String {
    match apikey::waiting(inventory, name) {
        Some((item, _)) => item.name.clone(),
        None => identity::free_name(inventory, name),
    }
}

/// Fetches the private key, which can be done once, and seals it.
fn take_in(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    file: &ProjectFile,
    request: &Request,
    said: ApiKey,
) -> Result<ItemId, ApiKeyCreateError> {
    let text = with_portal(ctx, cabinet, file, (ApiUse::Access, None), |portal| {
        portal.private_key(&said.key_id).map_err(|error| match error {
            PortalError::Refused(problem) if problem.kind == FETCHED => {
                ApiKeyCreateError::Lost { key_id: said.key_id.clone() }
            }
            error => error.into(),
        })
    })?;
    let ders = text.lend(|text| pem::blocks(text.as_bytes(), pem::PRIVATE_KEY, &Limits::USUAL));
    let secret = ders.into_iter().map(Secret::new).next().ok_or(ApiKeyCreateError::Unreadable)?;
    let facts = ApiKeyFacts {
        service: Service::Store,
        key_id: said.key_id,
        issuer: said.issuer,
        role: said.role.to_string(),
        uses: request.uses.clone(),
        audience: None,
        vendor_number: None,
        store: file.project.at_store.as_ref().map(ToString::to_string),
        label: None,
        asked_of: None,
        key: None,
        apps: request.apps.clone(),
    };
    put(ctx, cabinet, &request.name, facts, secret)
}

fn put(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    name: &str,
    facts: ApiKeyFacts,
    secret: SecretBytes,
) -> Result<ItemId, ApiKeyCreateError> {
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    let public = KeyFacts {
        algorithm: key.public().shape().to_string(),
        public_key: hex(key.public().as_der()),
        fingerprint: key.public().fingerprint(),
    };
    cabinet.change(&format!("apikey create {name}"), &ctx.env, |change| {
        // somebody took the name meanwhile: the one download is not lost for that
        let name = free(&change.inventory(), name);
        Ok(apikey::put(change, &name, facts, Some(public), secret)?)
    })
}
