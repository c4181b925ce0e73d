//! `ninekeys portal`: what stands where certificates and profiles are issued.

mod take_in;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys portal …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    TakeIn(take_in::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::TakeIn(args) => take_in::run(&args, ctx, out),
    }
}
