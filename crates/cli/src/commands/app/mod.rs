//! `ninekeys app`: what the material is for.

mod add;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys app …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write an app into the project file
    Add(add::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Add(args) => add::run(args, ctx, out),
    }
}
