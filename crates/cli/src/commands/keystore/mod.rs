//! `ninekeys keystore`: keystores with signing and upload keys.

mod add_key;
pub(crate) mod args;
mod change;
mod create;
mod export;
mod hand_over;
mod import;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys keystore …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Create(create::Args),
    AddKey(add_key::Args),
    Change(change::Args),
    Import(import::Args),
    Export(export::Args),
    HandOver(hand_over::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Create(args) => create::run(args, ctx, out),
        Command::AddKey(args) => add_key::run(args, ctx, out),
        Command::Change(args) => change::run(args, ctx, out),
        Command::Import(args) => import::run(args, ctx, out),
        Command::Export(args) => export::run(args, ctx, out),
        Command::HandOver(args) => hand_over::run(args, ctx, out),
    }
}
