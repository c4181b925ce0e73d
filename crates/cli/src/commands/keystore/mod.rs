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
    /// Make a keystore with its first key
    Create(create::Args),
    /// Make another key in a keystore
    AddKey(add_key::Args),
    /// Change names, aliases, apps or the password; the keys stay the same
    Change(change::Args),
    /// Take the keys out of a PKCS#12 or JKS file
    Import(import::Args),
    /// Write a PKCS#12 file, or a certificate alone
    Export(export::Args),
    /// Encrypt a private key to a store's public key
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
