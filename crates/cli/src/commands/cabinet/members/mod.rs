//! `ninekeys cabinet members`: who opens the cabinet.

mod add;
mod list;
mod remove;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys cabinet members …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    List(list::Args),
    Add(add::Args),
    Remove(remove::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::List(args) => list::run(&args, ctx, out),
        Command::Add(args) => add::run(args, ctx, out),
        Command::Remove(args) => remove::run(&args, ctx, out),
    }
}
