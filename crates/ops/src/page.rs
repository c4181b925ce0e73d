//! Pages and pictures for people, as files.

use std::path::Path;

use thiserror::Error;

use crate::ctx::Ctx;
use crate::files::{Access, FileError, Taken};
use crate::outgoing::Outgoing;
use crate::outputs::{self, OutputError};

/// Why a page was not written.
#[derive(Debug, Error)]
pub enum PageError {
    /// It would fall on something of ours, or its name is taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The file.
    #[error(transparent)]
    File(#[from] FileError),
}

/// Writes a page, whole or not at all.
///
/// # Errors
/// [`PageError`]; then there is no new file.
pub fn write(ctx: &Ctx<'_>, file: &Path, text: &str, replace: bool) -> Result<(), PageError> {
    let path = ctx.path(file);
    outputs::refuse_ours(ctx, &[&path], &[])?;
    outputs::refuse_taken(ctx, &[&path], replace)?;
    let taken = Taken::when_told(replace, ctx.env.now);
    ctx.notice_aside(Outgoing::write_whole(ctx, &path, text.as_bytes(), Access::Usual, taken)?);
    Ok(())
}
