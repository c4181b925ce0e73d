//! A new member with a file that it opens with.

use std::path::Path;

use ninekeys_cabinet::{Cabinet, CabinetError, Issued, Member, NewMember, Role};
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::files::{Access, FileError, Taken};
use crate::outgoing::Outgoing;
use crate::outputs::{self, OutputError};
use crate::project::ProjectError;

/// Why there is no new member.
#[derive(Debug, Error)]
pub enum IssueError {
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
pub(super) fn issue<'c, E>(
    ctx: &'c Ctx<'_>,
    file: &Path,
    what: &str,
    role: Role,
    name: impl FnOnce(&[Member]) -> Result<String, E>,
) -> Result<(Cabinet<'c>, Issued), E>
where
    E: From<IssueError> + From<CabinetError>,
{
    let path = ctx.path(file);
    outputs::refuse_ours(ctx, &[&path], &[]).map_err(IssueError::from)?;
    outputs::refuse_taken(ctx, &[&path], false).map_err(IssueError::from)?;
    let mut cabinet = ctx.open_unlocked().map_err(IssueError::from)?;
    let issued = issue_in(ctx, &mut cabinet, &path, what, role, name)?;
    Ok((cabinet, issued))
}

/// The same in a cabinet that is unlocked already; `path` is free.
pub(super) fn issue_in<E>(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    path: &Path,
    what: &str,
    role: Role,
    name: impl FnOnce(&[Member]) -> Result<String, E>,
) -> Result<Issued, E>
where
    E: From<IssueError> + From<CabinetError>,
{
    let mut scratch = Outgoing::scratch(ctx).map_err(IssueError::from)?;
    let output = scratch.file(path, Access::Owner).map_err(IssueError::from)?;
    let issued = cabinet.change(what, &ctx.env, |change| {
        let label = name(&change.members())?;
        let issued = change.add_member(&NewMember::UnlockFile { label }, role)?;
        if let Some(text) = &issued.text {
            text.lend(|text| output.put(0, text.as_bytes())).map_err(IssueError::from)?;
        }
        output.settle().map_err(IssueError::from)?;
        Ok::<_, E>(issued)
    })?;
    let unnamed = |cause| IssueError::Unnamed { member: issued.label.clone(), cause };
    output.finish(Taken::Refuse).map_err(unnamed)?;
    raise_pin(ctx, cabinet).map_err(IssueError::from)?;
    Ok(issued)
}

/// The project file pins the newest change of members.
pub(super) fn raise_pin(ctx: &Ctx<'_>, cabinet: &Cabinet<'_>) -> Result<(), ProjectError> {
    match ctx.project_if_any().map_err(ProjectError::unpinned)? {
        Some(project) => project.raise_pin(ctx, &cabinet.pin()),
        None => Ok(()),
    }
}
