//! `ninekeys apikey`: keys that make tokens for the portal and the stores.

mod ask;
mod create;
mod import;
pub(crate) mod password;
mod retire;
pub(crate) mod token;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys apikey …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Ask(ask::Args),
    Create(create::Args),
    Import(import::Args),
    Token(token::Args),
    Password(password::Args),
    Retire(retire::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Ask(args) => ask::run(args, ctx, out),
        Command::Create(args) => create::run(args, ctx, out),
        Command::Import(args) => import::run(args, ctx, out),
        Command::Token(args) => token::run(args, ctx, out),
        Command::Password(args) => password::run(&args, ctx, out),
        Command::Retire(args) => retire::run(&args, ctx, out),
    }
}
