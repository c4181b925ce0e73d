//! `ninekeys board`

use ninekeys_ops::Ctx;
use ninekeys_ops::board::board;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Show the state of everything: nine keys, every app
///
/// Shows one row an app and one column a key: what is in use, what falls due, what is missing, and what to do.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {}

pub(crate) fn run(_args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = board(ctx).map_err(|error| Failure::of("show the board", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
