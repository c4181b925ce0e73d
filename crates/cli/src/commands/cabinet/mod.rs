//! `ninekeys cabinet`: the store of all material itself.

mod adopt;
mod backup;
mod history;
mod passphrase;
mod pin;
mod restore;
mod status;

use clap::Subcommand;
use ninekeys_ops::Ctx;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys cabinet …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Say who can unlock it, how it is kept, and when it was last copied
    Status(status::Args),
    /// Change the passphrase
    Passphrase(passphrase::Args),
    /// Copy it into folders; a copy counts when it was read back and opened
    Backup(backup::Args),
    /// Bring back a cabinet from one of its copies
    Restore(restore::Args),
    /// Show what was done with it, and by whom
    History(history::Args),
    /// Take in what another copy of it has, after both were changed
    Adopt(adopt::Args),
    /// Say which cabinet it is, and that it is the one that is meant
    Pin(pin::Args),
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Status(args) => status::run(&args, ctx, out),
        Command::Passphrase(args) => passphrase::run(&args, ctx, out),
        Command::Backup(args) => backup::run(&args, ctx, out),
        Command::Restore(args) => restore::run(&args, ctx, out),
        Command::History(args) => history::run(&args, ctx, out),
        Command::Adopt(args) => adopt::run(&args, ctx, out),
        Command::Pin(args) => pin::run(&args, ctx, out),
    }
}
