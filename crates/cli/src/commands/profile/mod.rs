//! `ninekeys profile`: what ties app, certificates, devices and destination together.

mod create;
mod export;
mod import;
mod renew;

use clap::Subcommand;
use ninekeys_ops::Ctx;
use ninekeys_ops::profile::create::ProfileCreateError;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys profile …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Create(create::Args),
    Import(import::Args),
    Export(export::Args),
    Renew(renew::Args),
}

/// Why the portal made no profile, and what it did before.
fn failed(attempt: &str, error: &ProfileCreateError) -> Failure {
    let failure = Failure::of(attempt, error);
    match error {
        ProfileCreateError::Prepare(cause) => {
            cause.done().into_iter().fold(failure, |f, done| f.changed(&done))
        }
        _ => failure,
    }
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Create(args) => create::run(args, ctx, out),
        Command::Renew(args) => renew::run(args, ctx, out),
        Command::Import(args) => import::run(args, ctx, out),
        Command::Export(args) => export::run(args, ctx, out),
    }
}
