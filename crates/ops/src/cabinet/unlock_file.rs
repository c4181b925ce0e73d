//! `cabinet unlock-file`: a file that unlocks the cabinet at once, for machines; beside what opens it already.

use std::path::Path;

use ninekeys_cabinet::{CabinetError, MemberKind, NewMember, Role};
use ninekeys_core::model::free_name;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::files::{Access, FileError, Taken};
use crate::outgoing::Outgoing;
use crate::outputs::{self, OutputError};

/// What was made.
#[derive(Debug, Serialize, JsonSchema)]
pub struct UnlockFileReport {
    /// The file.
    pub file: String,
    /// The new member.
    pub member: String,
    /// Whether a passphrase opens the cabinet too: without one, who loses every unlock file has lost the cabinet.
    pub has_passphrase: bool,
}

/// Why there is none.
#[derive(Debug, Error)]
pub enum UnlockFileError {
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The file would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The file could not be written.
    #[error(transparent)]
    File(#[from] FileError),
    /// The member is there, and its file could not be named.
    #[error("{cause}")]
    Unnamed {
        /// The member that opens with a file which is not there.
        member: String,
        /// What was wrong.
        #[source]
        cause: FileError,
    },
}

/// Makes a member and the file that it opens with. The file is written before the member is one, and named after.
///
/// # Errors
/// [`UnlockFileError`]; then nobody new opens the cabinet, but for [`UnlockFileError::Unnamed`].
pub fn unlock_file(ctx: &Ctx<'_>, file: &Path) -> Result<UnlockFileReport, UnlockFileError> {
    let path = ctx.path(file);
    outputs::refuse_ours(ctx, &[&path], &[])?;
    outputs::refuse_taken(ctx, &[&path], false)?;
    let mut cabinet = ctx.open_unlocked()?;
    let mut scratch = Outgoing::scratch(ctx)?;
    let output = scratch.file(&path, Access::Owner)?;
    let (member, has_passphrase) = cabinet.change("cabinet unlock-file", &ctx.env, |change| {
        let members = change.members();
        let label = free_name("unlock-file", |label| members.iter().any(|member| member.label == label));
        let issued = change.add_member(&NewMember::UnlockFile { label: label.clone() }, Role::Manager)?;
        if let Some(text) = issued.text {
            text.lend(|text| output.put(0, text.as_bytes()))?;
        }
        output.settle()?;
        let has_passphrase = members.iter().any(|member| member.kind == MemberKind::Passphrase);
        Ok::<_, UnlockFileError>((label, has_passphrase))
    })?;
    output
        .finish(Taken::Refuse)
        .map_err(|cause| UnlockFileError::Unnamed { member: member.clone(), cause })?;
    if let Some(project) = ctx.project_if_any().map_err(OpenError::from)?.filter(|file| file.pin().is_some())
    {
        project.set_pin(ctx, &cabinet.pin()).map_err(OpenError::from)?;
    }
    Ok(UnlockFileReport { file: file.display().to_string(), member, has_passphrase })
}
