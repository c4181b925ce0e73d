//! `ninekeys stand-in`: the simulated portal.

mod serve;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::arguments::Global;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys stand-in …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Serve(serve::Args),
}

/// Runs one of them.
pub(crate) fn run(
    command: Command,
    ctx: &Ctx<'_>,
    global: &Global,
    out: &mut Output,
) -> Result<Exit, Failure> {
    match command {
        Command::Serve(args) => serve::run(args, ctx, global, out),
    }
}
