//! `cabinet pieces make`: what opens the cabinet is split, and written down to be printed.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Member, MemberKind, NewMember, Role, WORK_FACTOR};
use ninekeys_core::recovery::{self, Pieces, SplitError};
use ninekeys_formats::secret::{Secret, SecretText};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::MEMBER;
use crate::cabinet::issue::raise_pin;
use crate::ctx::{Ctx, OpenError};
use crate::files::{Access, FileError, NewFolders, OutputFile, Taken};
use crate::outgoing::Outgoing;
use crate::outputs::{self, OutputError};
use crate::project::ProjectError;

/// The pieces to be made.
#[derive(Debug)]
pub struct Request {
    /// How many there are.
    pub of: u8,
    /// How many of them open the cabinet.
    pub needed: u8,
    /// The folder that they are written into.
    pub to: PathBuf,
}

/// The pieces that were made.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PiecesMakeReport {
    /// The files.
    pub files: Vec<String>,
    /// How many of them open the cabinet.
    pub needed: u8,
    /// Whether pieces that were made before open nothing any more.
    pub replaced: bool,
    /// The time of this report.
    pub at: Timestamp,
}

/// Why there are no pieces.
#[derive(Debug, Error)]
pub enum PiecesMakeError {
    /// They cannot be made.
    #[error(transparent)]
    Split(#[from] SplitError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// A file would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The pieces count, and not all of their files have a name.
    #[error("{cause}")]
    Unnamed {
        /// The files that have one.
        done: Vec<String>,
        /// What was wrong.
        #[source]
        cause: FileError,
    },
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Makes pieces. They are written before they count, and named after; those that were made before open nothing then.
///
/// # Errors
/// [`PiecesMakeError`]; then what opened the cabinet still does, and nothing else.
pub fn pieces_make(ctx: &Ctx<'_>, request: &Request) -> Result<PiecesMakeReport, PiecesMakeError> {
    let names: Vec<PathBuf> = (1..=request.of)
        .map(|number| request.to.join(format!("piece-{number}-of-{}.txt", request.of)))
        .collect();
    let paths: Vec<PathBuf> = names.iter().map(|name| ctx.path(name)).collect();
    let all: Vec<&Path> = paths.iter().map(PathBuf::as_path).collect();
    outputs::refuse_ours(ctx, &all, &[])?;
    outputs::refuse_taken(ctx, &all, false)?;
    let Pieces { passphrase, pieces } = recovery::split(request.needed, request.of, &ctx.env)?;
    let title = ctx.project_if_any()?.map(|file| file.project.title).unwrap_or_default();
    let mut cabinet = ctx.open_unlocked()?;
    let made_before = |member: &Member| {
        member.label == MEMBER && member.kind == MemberKind::Passphrase && member.role == Role::Manager
    };
    let at_first = cabinet.status()?.members.into_iter().find(&made_before).map(|member| member.id);
    let folders = NewFolders::make(&ctx.path(&request.to))?;
    let mut scratch = Outgoing::scratch(ctx)?;
    let mut outputs: Vec<OutputFile> = Vec::new();
    let identity: String = cabinet.identity().to_string().chars().take(16).collect();
    for (index, (path, piece)) in paths.iter().zip(&pieces).enumerate() {
        let output = scratch.file(path, Access::Owner)?;
        let text = page(ctx, request, index + 1, &format!("{identity} {title}"), piece);
        text.lend(|text| output.put(0, text.as_bytes()))?;
        output.settle()?;
        outputs.push(output);
    }
    let new = NewMember::Passphrase { label: MEMBER.into(), passphrase, work_factor: WORK_FACTOR };
    let replaced = cabinet.change("cabinet pieces make", &ctx.env, |change| {
        let before = change.members().into_iter().find(&made_before);
        // pieces that somebody makes in this moment would open nothing, and they would never be told
        if before.as_ref().map(|member| &member.id) != at_first.as_ref() {
            return Err(CabinetError::ChangedMeanwhile("the recovery pieces".into()));
        }
        match &before {
            Some(member) => change.replace_member(&member.id, &new)?,
            None => change.add_member(&new, Role::Manager)?,
        };
        Ok::<_, CabinetError>(before.is_some())
    })?;
    folders.keep();
    let mut files = Vec::new();
    for (output, name) in outputs.into_iter().zip(&names) {
        output
            .finish(Taken::Refuse)
            .map_err(|cause| PiecesMakeError::Unnamed { done: files.clone(), cause })?;
        files.push(name.display().to_string());
    }
    raise_pin(ctx, &cabinet)?;
    Ok(PiecesMakeReport { files, needed: request.needed, replaced, at: ctx.env.now })
}

/// What every piece begins with.
pub(crate) const HEAD: &str = "Recovery piece ";

/// A piece as it is printed.
fn page(ctx: &Ctx<'_>, request: &Request, number: usize, of: &str, piece: &SecretText) -> SecretText {
    let day = ctx.env.now.strftime("%-d %b %Y");
    let (all, needed) = (request.of, request.needed);
    let head = format!(
        "{HEAD}{number} of {all} of the cabinet {}, made {day}.\n\
         Any {needed} of the {all} pieces open it. Keep them apart, on paper.\n\n    ",
        of.trim_end()
    );
    let foot = "\n\nTo use them:  ninekeys cabinet pieces join FILE FILE … --new-unlock-file FILE\n";
    piece.lend(|piece| {
        // room for all of it at once: a secret's buffer does not move
        let mut text = String::with_capacity(head.len() + piece.len() + foot.len());
        text.push_str(&head);
        text.push_str(piece);
        text.push_str(foot);
        Secret::new(text)
    })
}
