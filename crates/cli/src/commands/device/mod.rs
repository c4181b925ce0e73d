//! `ninekeys device`: the devices that may run what is not from the store.

mod add;
mod import;
mod list;
mod rename;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys device …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Add(add::Args),
    Import(import::Args),
    List(list::Args),
    Rename(rename::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Add(args) => add::run(args, ctx, out),
        Command::Import(args) => import::run(args, ctx, out),
        Command::List(args) => list::run(&args, ctx, out),
        Command::Rename(args) => rename::run(&args, ctx, out),
    }
}
