//! `ninekeys date`: dates that belong to the job and to no key.

mod add;
mod done;
mod list;
mod remove;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys date …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Add(add::Args),
    List(list::Args),
    Done(done::Args),
    Remove(remove::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Add(args) => add::run(args, ctx, out),
        Command::List(args) => list::run(&args, ctx, out),
        Command::Done(args) => done::run(&args, ctx, out),
        Command::Remove(args) => remove::run(&args, ctx, out),
    }
}
