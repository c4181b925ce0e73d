//! `apikey password`: an account's upload password, read for a program that wants it typed.

use ninekeys_cabinet::CabinetError;
use ninekeys_formats::secret::SecretText;
use thiserror::Error;

use super::FindError;
use crate::apikey;
use crate::ctx::{Ctx, OpenError};

/// A password that was read.
pub struct Password {
    /// The item's name.
    pub api_key: String,
    /// The account.
    pub account: String,
    /// Its label at the portal.
    pub label: String,
    /// The password.
    pub password: SecretText,
}

/// Why it was not read.
#[derive(Debug, Error)]
pub enum ApiKeyPasswordError {
    /// The item.
    #[error(transparent)]
    Find(#[from] FindError),
    /// It is a key.
    #[error("{0} is no upload password")]
    NoPassword(String),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Reads it. That it was read is written into the history before it is told.
///
/// # Errors
/// [`ApiKeyPasswordError`].
pub fn apikey_password(ctx: &Ctx<'_>, name: &str) -> Result<Password, ApiKeyPasswordError> {
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, facts) = apikey::find(&inventory, name)?;
    let none = || ApiKeyPasswordError::NoPassword(item.name.clone());
    let (id, account) = (item.id, facts.issuer.clone());
    let label = facts.label.clone().ok_or_else(none)?;
    ctx.unlock(&mut cabinet)?;
    let api_key = item.name.clone();
    let password = ctx.tell(&mut cabinet, &format!("apikey password {api_key}"), &id)?;
    Ok(Password { api_key, account, label, password })
}
