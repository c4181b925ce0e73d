//! `ninekeys identity`: keys with the certificates that are issued over them.

mod accept;
mod export;
mod import;
mod request;
mod revoke;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys identity …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Request(request::Args),
    Accept(accept::Args),
    Import(import::Args),
    Export(export::Args),
    Revoke(revoke::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Request(args) => request::run(args, ctx, out),
        Command::Accept(args) => accept::run(args, ctx, out),
        Command::Import(args) => import::run(args, ctx, out),
        Command::Export(args) => export::run(args, ctx, out),
        Command::Revoke(args) => revoke::run(&args, ctx, out),
    }
}
