//! `cabinet passphrase`: another passphrase for the cabinet.

use ninekeys_cabinet::{CabinetError, MemberKind, NewMember, WORK_FACTOR};
use ninekeys_core::password::{self, PasswordError};
use ninekeys_formats::secret::SecretText;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{AskError, Ctx, OpenError};

/// What was changed.
#[derive(Debug, Serialize)]
pub struct PassphraseReport {
    /// The member whose passphrase it is.
    pub member: String,
    /// Whether it had one before.
    pub replaced: bool,
    /// Whether the new one is easy to guess.
    pub weak: bool,
}

/// Why nothing was changed.
#[derive(Debug, Error)]
pub enum PassphraseError {
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The new passphrase.
    #[error(transparent)]
    Password(#[from] PasswordError),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// There is nobody to ask for the new one.
    #[error("there is no terminal to ask for the new passphrase on")]
    NobodyToAsk,
}

/// Gives the passphrase member another passphrase, or the cabinet its first.
///
/// # Errors
/// [`PassphraseError`]; then the old one still opens the cabinet.
pub fn passphrase(ctx: &Ctx<'_>, given: Option<SecretText>) -> Result<PassphraseReport, PassphraseError> {
    let mut cabinet = ctx.open_unlocked()?;
    let members = cabinet.status()?.members;
    let before = members.iter().find(|member| member.kind == MemberKind::Passphrase);
    let chosen = match given {
        Some(given) => given,
        None => {
            let asked = ctx.ask.new_secret("New passphrase for the cabinet")?;
            asked.ok_or(PassphraseError::NobodyToAsk)?
        }
    };
    let strength = password::judge(&chosen, &[])?;
    let label = before.map_or_else(|| "passphrase".to_owned(), |member| member.label.clone());
    let new = NewMember::Passphrase { label: label.clone(), passphrase: chosen, work_factor: WORK_FACTOR };
    cabinet.put_member(&new, &format!("cabinet passphrase of {label}"), &ctx.env)?;
    Ok(PassphraseReport { member: label, replaced: before.is_some(), weak: strength.weak })
}
