//! `cabinet pieces join`: pieces open the cabinet, and an unlock file is made of what they open.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Credential, Member, Role};
use ninekeys_core::model::free_name;
use ninekeys_core::recovery::{self, RecoveryError};
use ninekeys_formats::secret::SecretText;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::cabinet::issue::{IssueError, issue_in};
use crate::ctx::{Ctx, OpenError, read_secret_file};
use crate::files::FileError;
use crate::outputs::{self, OutputError};

/// What pieces opened.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PiecesJoinReport {
    /// The unlock file that opens the cabinet from now on.
    pub file: String,
    /// Its member.
    pub member: String,
    /// How many pieces were joined.
    pub pieces: usize,
    /// The time of this report.
    pub at: Timestamp,
}

/// Why they open nothing.
#[derive(Debug, Error)]
pub enum PiecesJoinError {
    /// They tell nothing.
    #[error(transparent)]
    Recovery(#[from] RecoveryError),
    /// None was named, and there is nobody to ask.
    #[error("no piece was named, and there is no terminal to ask for them on")]
    NobodyToAsk,
    /// The pieces of another cabinet, or older ones.
    #[error("the pieces open another cabinet than this, or were replaced by newer ones")]
    OpenNothing,
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The unlock file would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// A piece.
    #[error(transparent)]
    File(#[from] FileError),
    /// The new member, or its unlock file.
    #[error(transparent)]
    Issue(#[from] IssueError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Joins pieces, and makes an unlock file of what they open.
///
/// # Errors
/// [`PiecesJoinError`]; then nobody new opens the cabinet, but for [`IssueError::Unnamed`].
pub fn pieces_join(ctx: &Ctx<'_>, files: &[PathBuf], to: &Path) -> Result<PiecesJoinReport, PiecesJoinError> {
    let path = ctx.path(to);
    outputs::refuse_ours(ctx, &[&path], &[])?;
    outputs::refuse_taken(ctx, &[&path], false)?;
    let given: Vec<SecretText> =
        files.iter().map(|file| read_secret_file(&ctx.path(file))).collect::<Result<_, FileError>>()?;
    let (passphrase, pieces) = match given.is_empty() {
        false => (recovery::join(&given)?, given.len()),
        true => ask(ctx)?,
    };
    let mut cabinet = ctx.open()?;
    cabinet.unlock(&Credential::Passphrase(passphrase)).map_err(|error| match error {
        CabinetError::WrongPassphrase => PiecesJoinError::OpenNothing,
        other => other.into(),
    })?;
    let name = |members: &[Member]| {
        let taken = |label: &str| members.iter().any(|member| member.label == label);
        Ok::<_, PiecesJoinError>(free_name("recovered", taken))
    };
    let issued = issue_in(ctx, &mut cabinet, &path, "cabinet pieces join", Role::Manager, name)?;
    Ok(PiecesJoinReport { file: to.display().to_string(), member: issued.label, pieces, at: ctx.env.now })
}

/// Asks for one piece after the other, each again until its checksum fits, until they tell what they stand for.
fn ask(ctx: &Ctx<'_>) -> Result<(SecretText, usize), PiecesJoinError> {
    let mut pieces: Vec<SecretText> = Vec::new();
    loop {
        let question = format!("Piece {}", pieces.len() + 1);
        pieces.push(ctx.ask.secret(&question)?.ok_or(PiecesJoinError::NobodyToAsk)?);
        match recovery::join(&pieces) {
            Ok(passphrase) => return Ok((passphrase, pieces.len())),
            Err(RecoveryError::TooFew { .. }) => {}
            Err(error) => {
                pieces.pop();
                ctx.ask.tell(&error.to_string());
            }
        }
    }
}
