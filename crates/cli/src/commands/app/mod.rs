//! `ninekeys app`: what the material is for.

mod add;
mod args;
mod change;
mod list;
mod next;
mod remove;
mod statement;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys app …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Add(Box<add::Args>),
    List(list::Args),
    Change(Box<change::Args>),
    Remove(remove::Args),
    Next(next::Args),
    Statement(statement::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Add(args) => add::run(*args, ctx, out),
        Command::List(args) => list::run(&args, ctx, out),
        Command::Change(args) => change::run(*args, ctx, out),
        Command::Next(args) => next::run(&args, ctx, out),
        Command::Remove(args) => remove::run(&args, ctx, out),
        Command::Statement(args) => statement::run(&args, ctx, out),
    }
}
