//! `keystore take-out`: a keystore that came in by mistake, out of the cabinet with all that hangs on it alone.

use ninekeys_cabinet::{CabinetError, Change};
use ninekeys_core::model::{Facts, Inventory, ItemId, KeystoreFacts};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::keystore::{self, FindError};

/// What was taken out.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeystoreTakeOutReport {
    /// The keystore.
    pub keystore: String,
    /// Everything that is not in the cabinet any more, by name.
    pub taken: Vec<String>,
    /// Its keys and certificates that stay, since something else names them: by name.
    pub kept: Vec<String>,
    /// Whether the last backup has its keys.
    pub in_backup: bool,
}

/// Why it stays.
#[derive(Debug, Error)]
pub enum TakeOutError {
    /// The keystore.
    #[error(transparent)]
    Find(#[from] FindError),
    /// Keys would be gone, and nobody said that it is meant.
    #[error(
        "no backup has the private keys of {keystore}: taken out, they would be gone for good; say that it is meant"
    )]
    NotSure {
        /// The keystore.
        keystore: String,
    },
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Takes the keystore out. A private key that no backup has goes only with a yes; what another keystore or a release of the
/// ledger names stays.
///
/// # Errors
/// [`TakeOutError`]; then the cabinet is as it was.
pub fn keystore_take_out(
    ctx: &Ctx<'_>,
    name: &str,
    yes: bool,
) -> Result<KeystoreTakeOutReport, TakeOutError> {
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, facts) = keystore::find(&inventory, name)?;
    let keystore = item.name.clone();
    let backup = cabinet.last_backup();
    let in_backup = |facts: &KeystoreFacts, inventory: &Inventory| {
        backup.is_some_and(|backup| backup.has_keys(facts, inventory))
    };
    let (before, sure) = (facts.entries.clone(), yes || in_backup(facts, &inventory));
    if !sure {
        let question = format!("No backup has the keys of {keystore}: take them out for good");
        match ctx.ask.sure(&question)? {
            Some(true) => {}
            Some(false) => return Err(AskError::Declined.into()),
            None => return Err(TakeOutError::NotSure { keystore }),
        }
    }
    ctx.unlock(&mut cabinet)?;
    let what = format!("keystore take-out {keystore}");
    cabinet.change(&what, &ctx.env, |change| {
        let inventory = change.inventory();
        let (item, facts) = keystore::find(&inventory, &keystore)?;
        let in_backup = in_backup(facts, &inventory);
        // the yes was for the keys that it had then
        if !in_backup && facts.entries != before {
            return Err(CabinetError::ChangedMeanwhile(item.name.clone()).into());
        }
        change.take_out(item)?;
        let (mut taken, mut kept) = (vec![item.name.clone()], Vec::new());
        for entry in &facts.entries {
            // the certificate first: it names the key
            for id in [&entry.certificate, &entry.key] {
                take_alone(change, id, &mut taken, &mut kept)?;
            }
        }
        Ok(KeystoreTakeOutReport { keystore: item.name.clone(), taken, kept, in_backup })
    })
}

/// Takes a part out that nothing else names.
fn take_alone(
    change: &mut Change<'_>,
    id: &ItemId,
    taken: &mut Vec<String>,
    kept: &mut Vec<String>,
) -> Result<(), CabinetError> {
    let inventory = change.inventory();
    // one key may stand in a keystore twice
    let Some(item) = inventory.get(id) else { return Ok(()) };
    debug_assert!(matches!(item.facts, Facts::Key(_) | Facts::Certificate(_)), "a part of a keystore");
    match inventory.dependents(id).next() {
        Some(_) => kept.push(item.name.clone()),
        None => {
            change.take_out(item)?;
            taken.push(item.name.clone());
        }
    }
    Ok(())
}
