//! `ninekeys apikey`: keys that make tokens for the portal and the stores.

mod create;
mod import;
mod retire;
pub(crate) mod token;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys apikey …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Create(create::Args),
    Import(import::Args),
    Token(token::Args),
    Retire(retire::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Create(args) => create::run(args, ctx, out),
        Command::Import(args) => import::run(args, ctx, out),
        Command::Token(args) => token::run(args, ctx, out),
        Command::Retire(args) => retire::run(&args, ctx, out),
    }
}
