//! Asking the portal: with which API key, and at which address.

pub mod take_in;

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::keys::{KeyError, PrivateKey};
use ninekeys_core::model::{
    ApiKeyFacts, ApiRole, ApiUse, Facts, Inventory, Item, ItemId, Name, Project, Service, State,
};
use ninekeys_core::token::{Claims, MOST_MINUTES, make};
use ninekeys_portal::client::{HttpPortal, Portal, PortalError, Tokens, basic, bearer};
use ninekeys_portal::store::Store;
use ninekeys_portal::wire::AUDIENCE;
use thiserror::Error;

use crate::ctx::Ctx;
use crate::identity::{self, CertificatesError};
use crate::project::ProjectFile;

/// Why the portal cannot be asked.
#[derive(Debug, Error)]
pub enum ConnectError {
    /// The project file does not say where it is.
    #[error("the project file does not say where the portal is")]
    NoAddress,
    /// No API key of the cabinet may ask it.
    #[error("the cabinet holds no store API key{} with the role {role} or a larger one", for_store(store.as_ref()))]
    NoKey {
        /// The smallest role that would do.
        role: ApiRole,
        /// The store that it has to be for, where it is not the one that stands with the portal.
        store: Option<Name>,
    },
    /// The key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The address.
    #[error(transparent)]
    Portal(#[from] PortalError),
    /// The certificate that is pinned.
    #[error(transparent)]
    Pin(#[from] CertificatesError),
    /// The file with it holds several.
    #[error("{0} holds several certificates, and one is pinned")]
    SeveralPins(String),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

fn for_store(store: Option<&Name>) -> String {
    store.map(|store| format!(" for {store}")).unwrap_or_default()
}

/// The API key that may do it for an app, or for all where none is named, with the smallest role that does: one for that app by name
/// before one for all, and one for this very use before others. One that `opens` goes before any that does not.
fn key_for<'a>(
    project: &Project,
    inventory: &'a Inventory,
    (what, app): (ApiUse, Option<&str>),
    opens: &dyn Fn(&ItemId) -> bool,
) -> Option<(&'a Item, &'a ApiKeyFacts)> {
    let active = inventory.iter().filter(|item| item.state == State::Active);
    // a store knows its own keys alone
    let there = project.at_store.as_ref().map(Name::as_str);
    let named = |facts: &ApiKeyFacts| app.is_some_and(|app| facts.apps.iter().any(|one| one == app));
    let serves = |facts: &ApiKeyFacts| app.is_none() || facts.apps.is_empty() || named(facts);
    let usable = active.filter_map(|item| match &item.facts {
        Facts::ApiKey(facts)
            if facts.service == Service::Store && facts.store.as_deref() == there && serves(facts) =>
        {
            let role = match (&facts.key, &facts.label) {
                (Some(_), _) => facts.role.parse::<ApiRole>().ok().filter(|role| *role >= what.needs())?,
                // an account's upload password uploads, whatever else the account may do
                (None, Some(_)) if what == ApiUse::Uploads => what.needs(),
                _ => return None,
            };
            Some((item, facts.as_ref(), role))
        }
        _ => None,
    });
    let best = usable.min_by(|(a, one, role), (b, other, another)| {
        let is_closed = |item: &Item, facts: &ApiKeyFacts| !opens(facts.key.as_ref().unwrap_or(&item.id));
        let rank = |item: &Item, facts: &ApiKeyFacts, role: ApiRole| {
            // a key says more of who calls than a password does
            let is_password = facts.key.is_none();
            (is_closed(item, facts), is_password, !named(facts), !facts.uses.contains(&what), role)
        };
        rank(a, one, *role).cmp(&rank(b, other, *another)).then_with(|| a.name.cmp(&b.name))
    });
    best.map(|(item, facts, _)| (item, facts))
}

/// Whether the portal can be asked for something: the project says where it is, and a key may ask.
pub(crate) fn can_ask(project: &Project, inventory: &Inventory, what: ApiUse, app: Option<&str>) -> bool {
    project.portal.is_some() && key_for(project, inventory, (what, app), &|_| true).is_some()
}

/// The certificate that the project pins for the portal's connection, DER.
pub(crate) fn pin(file: &ProjectFile) -> Result<Option<Vec<u8>>, ConnectError> {
    let Some(named) = &file.project.portal_certificate else { return Ok(None) };
    match identity::read_certificates(&file.resolve(named))?.as_slice() {
        [one] => Ok(Some(one.der.clone())),
        _ => Err(ConnectError::SeveralPins(named.clone())),
    }
}

/// Lends the portal to some work, every call with a token of its own.
///
/// # Errors
/// [`ConnectError`], and what `work` returns.
pub(crate) fn with_portal<R, E: From<ConnectError>>(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    file: &ProjectFile,
    (what, app): (ApiUse, Option<&str>),
    work: impl FnOnce(&dyn Portal) -> Result<R, E>,
) -> Result<R, E> {
    with_best_key(ctx, cabinet, file, (what, app), |portal| work(portal))
}

/// Lends the store to some work, in the same way.
///
/// # Errors
/// [`ConnectError`], and what `work` returns.
pub(crate) fn with_store<R, E: From<ConnectError>>(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    file: &ProjectFile,
    (what, app): (ApiUse, Option<&str>),
    work: impl FnOnce(&dyn Store) -> Result<R, E>,
) -> Result<R, E> {
    with_best_key(ctx, cabinet, file, (what, app), |portal| work(portal))
}

/// Lends both to some work, with the key that does it best.
fn with_best_key<R, E: From<ConnectError>>(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    file: &ProjectFile,
    (what, app): (ApiUse, Option<&str>),
    work: impl FnOnce(&HttpPortal<'_>) -> Result<R, E>,
) -> Result<R, E> {
    // a key is of no use where there is nobody to ask
    if file.project.portal.is_none() {
        return Err(ConnectError::NoAddress.into());
    }
    let inventory = cabinet.inventory().map_err(|error| E::from(error.into()))?;
    let found = key_for(&file.project, &inventory, (what, app), &|id| cabinet.opens(id));
    let no_key = || ConnectError::NoKey { role: what.needs(), store: file.project.at_store.clone() };
    let (item, facts) = found.ok_or_else(|| E::from(no_key()))?;
    match facts.key {
        Some(_) => connect(ctx, cabinet, file, (what, facts), work),
        None => with_password(ctx, cabinet, file, (item, facts), work),
    }
}

/// Lends the portal to some work with one API key and no other.
///
/// # Errors
/// As [`with_portal`].
pub(crate) fn with_key<R, E: From<ConnectError>>(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    file: &ProjectFile,
    (what, facts): (ApiUse, &ApiKeyFacts),
    work: impl FnOnce(&dyn Portal) -> Result<R, E>,
) -> Result<R, E> {
    connect(ctx, cabinet, file, (what, facts), |portal| work(portal))
}

fn connect<R, E: From<ConnectError>>(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    file: &ProjectFile,
    (what, facts): (ApiUse, &ApiKeyFacts),
    work: impl FnOnce(&HttpPortal<'_>) -> Result<R, E>,
) -> Result<R, E> {
    let failed = |error: ConnectError| E::from(error);
    let inventory = cabinet.inventory().map_err(|error| failed(error.into()))?;
    let item = facts.key.and_then(|id| inventory.get(&id));
    let store = file.project.at_store.clone();
    let item = item.ok_or_else(|| failed(ConnectError::NoKey { role: what.needs(), store }))?;
    let secret = cabinet.secret(item).map_err(|error| failed(error.into()))?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der)).map_err(|error| failed(error.into()))?;
    let tokens = || {
        let iat = ctx.env.now.as_second() + i64::try_from((ctx.running)().as_secs()).unwrap_or(0);
        let exp = iat + 60 * i64::from(MOST_MINUTES);
        let claims = Claims { iss: facts.issuer.clone(), aud: AUDIENCE.into(), iat, exp, scope: None };
        make(&key, &facts.key_id, &claims).map(|token| bearer(&token))
    };
    reach(ctx, file, &tokens, work)
}

/// The same with an account's upload password.
fn with_password<R, E: From<ConnectError>>(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    file: &ProjectFile,
    (item, facts): (&Item, &ApiKeyFacts),
    work: impl FnOnce(&HttpPortal<'_>) -> Result<R, E>,
) -> Result<R, E> {
    let secret = cabinet.secret(item).map_err(|error| E::from(error.into()))?;
    reach(ctx, file, &|| Ok(secret.lend(|password| basic(&facts.issuer, password))), work)
}

/// The portal of the project, asked by that caller.
fn reach<R, E: From<ConnectError>>(
    ctx: &Ctx<'_>,
    file: &ProjectFile,
    caller: Tokens<'_>,
    work: impl FnOnce(&HttpPortal<'_>) -> Result<R, E>,
) -> Result<R, E> {
    let failed = |error: ConnectError| E::from(error);
    let address = file.project.portal.as_deref().ok_or_else(|| failed(ConnectError::NoAddress))?;
    let pin = pin(file).map_err(failed)?;
    let portal = HttpPortal::at(address, pin.as_deref(), caller, ctx.env.keys);
    work(&portal.map_err(|error| failed(error.into()))?)
}
