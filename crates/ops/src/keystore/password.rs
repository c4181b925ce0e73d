//! `keystore password`: the password that is sealed with a keystore, read without an export.

use ninekeys_cabinet::CabinetError;
use ninekeys_formats::secret::SecretText;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::keystore::{self, FindError};

/// A password that was read.
pub struct Password {
    /// The keystore.
    pub keystore: String,
    /// Its password.
    pub password: SecretText,
}

/// Why it was not read.
#[derive(Debug, Error)]
pub enum PasswordReadError {
    /// The keystore.
    #[error(transparent)]
    Find(#[from] FindError),
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
/// [`PasswordReadError`].
pub fn keystore_password(ctx: &Ctx<'_>, name: &str) -> Result<Password, PasswordReadError> {
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, _) = keystore::find(&inventory, name)?;
    let (keystore, id) = (item.name.clone(), item.id);
    ctx.unlock(&mut cabinet)?;
    let password = ctx.tell(&mut cabinet, &format!("keystore password {keystore}"), &id)?;
    Ok(Password { keystore, password })
}
