//! `ninekeys cabinet pieces`: recovery pieces.

mod join;
mod make;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys cabinet pieces …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Make(make::Args),
    Join(join::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Make(args) => make::run(args, ctx, out),
        Command::Join(args) => join::run(&args, ctx, out),
    }
}
