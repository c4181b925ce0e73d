//! `ninekeys testers`: who tries builds before everyone gets them.

mod group;
mod invite;
mod list;
mod remove;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys testers …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    List(list::Args),
    Group(group::Args),
    Invite(invite::Args),
    Remove(remove::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::List(args) => list::run(&args, ctx, out),
        Command::Group(args) => group::run(&args, ctx, out),
        Command::Invite(args) => invite::run(args, ctx, out),
        Command::Remove(args) => remove::run(&args, ctx, out),
    }
}
