//! `ninekeys keystore`: keystores with signing and upload keys.

mod add_key;
pub(crate) mod args;
mod change;
mod create;
mod deposit;
mod export;
mod hand_over;
mod import;
pub(crate) mod password;
mod replace_upload;
mod retire;
mod take_out;

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
    Deposit(deposit::Args),
    ReplaceUpload(replace_upload::Args),
    Password(password::Args),
    Retire(retire::Args),
    TakeOut(take_out::Args),
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
        Command::Deposit(args) => deposit::run(args, ctx, out),
        Command::ReplaceUpload(args) => replace_upload::run(args, ctx, out),
        Command::Password(args) => password::run(&args, ctx, out),
        Command::Retire(args) => retire::run(&args, ctx, out),
        Command::TakeOut(args) => take_out::run(&args, ctx, out),
    }
}
