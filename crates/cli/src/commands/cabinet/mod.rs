//! `ninekeys cabinet`: the store of all material itself.

mod adopt;
mod backup;
mod forget;
mod history;
mod members;
mod passphrase;
mod pieces;
mod pin;
mod remember;
mod restore;
mod status;
mod unlock_file;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys cabinet …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Status(status::Args),
    /// Who opens the cabinet, each by a key of their own
    #[command(subcommand)]
    Members(members::Command),
    /// Recovery pieces: some of them open the cabinet when all else is lost
    #[command(subcommand)]
    Pieces(pieces::Command),
    Passphrase(passphrase::Args),
    UnlockFile(unlock_file::Args),
    Remember(remember::Args),
    Forget(forget::Args),
    Backup(backup::Args),
    Restore(restore::Args),
    History(history::Args),
    Adopt(adopt::Args),
    Pin(pin::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Status(args) => status::run(&args, ctx, out),
        Command::Members(command) => members::run(command, ctx, out),
        Command::Pieces(command) => pieces::run(command, ctx, out),
        Command::Passphrase(args) => passphrase::run(&args, ctx, out),
        Command::UnlockFile(args) => unlock_file::run(&args, ctx, out),
        Command::Remember(args) => remember::run(&args, ctx, out),
        Command::Forget(args) => forget::run(&args, ctx, out),
        Command::Backup(args) => backup::run(&args, ctx, out),
        Command::Restore(args) => restore::run(&args, ctx, out),
        Command::History(args) => history::run(args, ctx, out),
        Command::Adopt(args) => adopt::run(&args, ctx, out),
        Command::Pin(args) => pin::run(&args, ctx, out),
    }
}
