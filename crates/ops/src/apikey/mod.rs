//! What every command on API keys shares: finding them, and how they are told.

pub mod ask;
pub mod create;
pub mod import;
pub mod password;
pub mod retire;
pub mod token;

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, Change, NewItem};
use ninekeys_core::model::{
    ApiKeyFacts, ApiUse, Facts, Inventory, Item, ItemId, KeyFacts, NineKey, NotFound, Project, State,
};
use ninekeys_formats::secret::SecretBytes;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::{AppSaid, KeySaid};
use crate::identity;
use crate::project::ProjectFile;

/// Which API key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ApiKeySaid {
    /// Its name.
    pub api_key: String,
    /// Which of the nine it is.
    pub kind: NineKey,
    /// The key id that its tokens name; empty for what makes none.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub key_id: String,
    /// The issuer id or account that its tokens name, or the account of an upload password.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub issuer: String,
    /// The label of an account's upload password.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Who was asked to grant it, while it is waited for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub asked_of: Option<String>,
    /// When that was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub asked_at: Option<Timestamp>,
    /// What it may do; empty where its file does not say.
    pub role: String,
    /// What it is used for.
    pub uses: Vec<ApiUse>,
    /// The store that it is for, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The apps that it is for; empty for all.
    pub apps: Vec<AppSaid>,
    /// Its key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<KeySaid>,
    /// The number by which sales reports know the account.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub vendor_number: Option<String>,
    /// In use or retired.
    pub state: State,
}

/// A text that cannot be a key id or an issuer id.
#[derive(Debug, Error)]
#[error("`{0}` cannot be a key id or an issuer id: 1 to 100 printable characters without blanks")]
pub struct IdError(String);

/// Whether a text can be an id, whoever said it.
pub(crate) fn check_id(id: &str) -> Result<(), IdError> {
    let good = (1..=100).contains(&id.len()) && id.bytes().all(|byte| byte.is_ascii_graphic());
    let shown = || id.chars().filter(|c| !c.is_control()).take(40).collect();
    if good { Ok(()) } else { Err(IdError(shown())) }
}

/// Why no API key was found.
#[derive(Debug, Error)]
pub enum FindError {
    /// Nothing, or too much, goes by that name.
    #[error(transparent)]
    NotFound(#[from] NotFound),
    /// What was named is no API key.
    #[error("{name} is {found}, not an API key")]
    NotAnApiKey {
        /// Its name.
        name: String,
        /// What it is.
        found: String,
    },
}

/// The API key with that name.
pub(crate) fn find<'a>(
    inventory: &'a Inventory,
    name: &str,
) -> Result<(&'a Item, &'a ApiKeyFacts), FindError> {
    let item = inventory.find(name)?;
    match &item.facts {
        Facts::ApiKey(facts) => Ok((item, facts)),
        other => Err(FindError::NotAnApiKey { name: item.name.clone(), found: other.one() }),
    }
}

/// What is waited for under that name.
fn waiting<'a>(inventory: &'a Inventory, name: &str) -> Option<(&'a Item, &'a ApiKeyFacts)> {
    let item = inventory.iter().find(|item| item.name == name && item.state == State::Active)?;
    match &item.facts {
        Facts::ApiKey(facts) if facts.asked_of.is_some() => Some((item, facts)),
        _ => None,
    }
}

/// Puts one in, with its key where it is one: in the place of what was waited for under that name, or as an item of its own.
fn put(
    change: &mut Change<'_>,
    name: &str,
    mut facts: ApiKeyFacts,
    key: Option<KeyFacts>,
    secret: SecretBytes,
) -> Result<ItemId, CabinetError> {
    let own = match key {
        Some(key) => {
            let key = NewItem::new(format!("{name}/key"), Facts::Key(key), Some(secret));
            facts.key = Some(change.put(key)?);
            None
        }
        None => Some(secret),
    };
    let inventory = change.inventory();
    let Some((item, waiting)) = waiting(&inventory, name) else {
        return change.put(NewItem::new(name, Facts::ApiKey(Box::new(facts)), own));
    };
    // what was said when it was asked for holds where nothing else is said now
    if facts.role.is_empty() {
        facts.role.clone_from(&waiting.role);
    }
    if facts.uses.is_empty() {
        facts.uses.clone_from(&waiting.uses);
    }
    let mut item = item.clone();
    item.facts = Facts::ApiKey(Box::new(facts));
    change.revise(&item, own)?;
    Ok(item.id)
}

/// The API key that something was done to, as answers say it.
fn told(
    cabinet: &Cabinet<'_>,
    id: &ItemId,
    project: Option<&ProjectFile>,
) -> Result<ApiKeySaid, CabinetError> {
    let inventory = cabinet.inventory()?;
    match inventory.get(id).map(|item| (item, &item.facts)) {
        Some((item, Facts::ApiKey(facts))) => {
            Ok(said(&inventory, item, facts, project.map(|file| &file.project)))
        }
        _ => Err(CabinetError::Tampered(format!("the API key {id} is gone"))),
    }
}

/// An API key as answers say it.
pub(crate) fn said(
    inventory: &Inventory,
    item: &Item,
    facts: &ApiKeyFacts,
    project: Option<&Project>,
) -> ApiKeySaid {
    ApiKeySaid {
        api_key: item.name.clone(),
        kind: facts.service.nine_key(),
        key_id: facts.key_id.clone(),
        issuer: facts.issuer.clone(),
        label: facts.label.clone(),
        asked_of: facts.asked_of.clone(),
        asked_at: facts.asked_of.is_some().then_some(item.created),
        role: facts.role.clone(),
        uses: facts.uses.clone(),
        apps: identity::titled(&facts.apps, project),
        key: facts.key.as_ref().and_then(|id| identity::key_facts(inventory, id)).map(KeySaid::from),
        store: facts.store.clone(),
        vendor_number: facts.vendor_number.clone(),
        state: item.state,
    }
}
