//! `cabinet unlock-file`: a file that unlocks the cabinet at once, for machines; beside what opens it already.

use std::path::Path;

use ninekeys_cabinet::{Member, MemberKind, Role};
use ninekeys_core::model::free_name;
use schemars::JsonSchema;
use serde::Serialize;

use super::issue::{IssueError, issue};
use crate::ctx::Ctx;

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

/// Makes a member and the file that it opens with. The file is written before the member is one, and named after.
///
/// # Errors
/// [`IssueError`]; then nobody new opens the cabinet, but for [`IssueError::Unnamed`].
pub fn unlock_file(ctx: &Ctx<'_>, file: &Path) -> Result<UnlockFileReport, IssueError> {
    let name = |members: &[Member]| {
        Ok(free_name("unlock-file", |label| members.iter().any(|member| member.label == label)))
    };
    let (cabinet, issued) = issue::<IssueError>(ctx, file, "cabinet unlock-file", Role::Manager, name)?;
    let members = cabinet.status()?.members;
    let has_passphrase = members.iter().any(|member| member.kind == MemberKind::Passphrase);
    Ok(UnlockFileReport { file: file.display().to_string(), member: issued.label, has_passphrase })
}
