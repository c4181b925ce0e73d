//! `cabinet passphrase`: another passphrase for the cabinet.

use ninekeys_cabinet::{CabinetError, MemberKind, NewMember, Role, WORK_FACTOR};
use ninekeys_core::password::{PasswordError, judge_passphrase};
use ninekeys_formats::secret::SecretText;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::cabinet::issue::raise_pin;
use crate::ctx::{Ctx, OpenError};

/// What was changed.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PassphraseReport {
    /// The member whose passphrase it is.
    pub member: String,
    /// Whether it had one before.
    pub replaced: bool,
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
    let chosen = match given {
        Some(given) => given,
        None => {
            let judge = |text: &SecretText| judge_passphrase(text, &[]).map_err(|error| error.to_string());
            let asked = ctx.ask.new_secret("New passphrase for the cabinet", &judge)?;
            asked.ok_or(PassphraseError::NobodyToAsk)?
        }
    };
    judge_passphrase(&chosen, &[])?;
    let own =
        cabinet.unlocked_by().filter(|member| member.kind == MemberKind::Passphrase).map(|member| member.id);
    let what = "cabinet passphrase";
    let (label, replaced) = cabinet.change(what, &ctx.env, |change| {
        let members = change.members();
        let of_kind = members.iter().filter(|member| member.kind == MemberKind::Passphrase);
        let before =
            of_kind.clone().find(|member| Some(member.id) == own).or(of_kind.clone().next()).cloned();
        let label = before.as_ref().map_or_else(|| "passphrase".to_owned(), |member| member.label.clone());
        let new =
            NewMember::Passphrase { label: label.clone(), passphrase: chosen, work_factor: WORK_FACTOR };
        match &before {
            Some(member) => change.replace_member(&member.id, &new)?,
            None => change.add_member(&new, Role::Manager)?,
        };
        Ok::<_, CabinetError>((label, before.is_some()))
    })?;
    raise_pin(ctx, &cabinet).map_err(OpenError::from)?;
    Ok(PassphraseReport { member: label, replaced })
}
