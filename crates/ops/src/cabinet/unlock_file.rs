//! `cabinet unlock-file`: a file that unlocks the cabinet at once, for machines; beside what opens it already.

use std::path::Path;

use ninekeys_cabinet::{CabinetError, Member, MemberKind, Role};
use ninekeys_core::model::free_name;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::members::issue;
use crate::ctx::{Ctx, OpenError};
use crate::files::FileError;
use crate::outputs::OutputError;
use crate::project::ProjectError;

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
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
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
    let name = |members: &[Member]| {
        Ok(free_name("unlock-file", |label| members.iter().any(|member| member.label == label)))
    };
    let unnamed = |member, cause| UnlockFileError::Unnamed { member, cause };
    let (cabinet, issued) = issue(ctx, file, "cabinet unlock-file", Role::Manager, name, unnamed)?;
    let members = cabinet.status()?.members;
    let has_passphrase = members.iter().any(|member| member.kind == MemberKind::Passphrase);
    Ok(UnlockFileReport { file: file.display().to_string(), member: issued.label, has_passphrase })
}
