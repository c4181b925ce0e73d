//! `keystore retire`: a keystore that nothing is signed with any more, and that is kept.

use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::{Role, State};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::keystore::{self, FindError};

/// What it is now.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeystoreRetireReport {
    /// The keystore.
    pub keystore: String,
    /// Retired, or in use again.
    pub state: State,
    /// The apps that had no other signing key: nothing of them can be signed now.
    pub without_key: Vec<String>,
}

/// Why it stays as it is.
#[derive(Debug, Error)]
pub enum RetireError {
    /// The keystore.
    #[error(transparent)]
    Find(#[from] FindError),
    /// It is that already.
    #[error("{keystore} is {} already", word(*state))]
    Already {
        /// The keystore.
        keystore: String,
        /// What it is.
        state: State,
    },
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

fn word(state: State) -> &'static str {
    match state {
        State::Active => "in use",
        State::Retired => "retired",
    }
}

/// Retires the keystore, or takes it back into use.
///
/// # Errors
/// [`RetireError`]; then the cabinet is as it was.
pub fn keystore_retire(ctx: &Ctx<'_>, name: &str, back: bool) -> Result<KeystoreRetireReport, RetireError> {
    let state = if back { State::Active } else { State::Retired };
    let mut cabinet = ctx.open()?;
    keystore::find(&*cabinet.inventory()?, name)?;
    ctx.unlock(&mut cabinet)?;
    let what = format!("keystore retire {name}{}", if back { " --back" } else { "" });
    let keystore = cabinet.change(&what, &ctx.env, |change| {
        let inventory = change.inventory();
        let (item, _) = keystore::find(&inventory, name)?;
        if item.state == state {
            return Err(RetireError::Already { keystore: item.name.clone(), state });
        }
        let mut item = item.clone();
        item.state = state;
        change.revise(&item, None)?;
        Ok(item.name)
    })?;
    let inventory = cabinet.inventory()?;
    let (_, facts) = keystore::find(&inventory, &keystore)?;
    let mut without_key: Vec<String> =
        facts.entries.iter().flat_map(|entry| entry.apps_as(Role::Signing)).map(str::to_owned).collect();
    without_key.retain(|app| inventory.android_keys(app, Role::Signing).next().is_none());
    Ok(KeystoreRetireReport { keystore, state, without_key })
}
