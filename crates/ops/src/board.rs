//! `board`: nine keys × apps, without a passphrase.

use ninekeys_cabinet::Look;
use ninekeys_core::board::{Board, BoardView, board as draw};
use thiserror::Error;

use crate::advice;
use crate::ctx::{Ctx, OpenError};
use crate::project::ProjectError;

/// The board, each task with its command: arguments behind the program's name, words in capitals are the user's.
pub type BoardReport = Board<Vec<String>>;

/// Why it could not be drawn.
#[derive(Debug, Error)]
pub enum BoardError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
}

/// Draws the board of the project.
///
/// # Errors
/// [`BoardError`].
pub fn board(ctx: &Ctx<'_>) -> Result<BoardReport, BoardError> {
    let file = ctx.project_file()?;
    let Look { inventory, last_backup, .. } = ctx.look()?;
    let view = BoardView { project: &file.project, inventory: &inventory, last_backup, now: ctx.env.now };
    Ok(draw(&view).map(advice::in_general))
}
