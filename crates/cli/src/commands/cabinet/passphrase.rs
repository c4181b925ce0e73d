//! `ninekeys cabinet passphrase`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::passphrase::passphrase;

use crate::failure::{Exit, Failure};
use crate::output::Output;
use crate::prompt::Given;

/// Change the passphrase
///
/// Gives the cabinet another passphrase, asked for twice unless a file or descriptor gives it.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Read the new passphrase from a file
    #[arg(long, value_name = "FILE", group = "new_passphrase")]
    new_passphrase_in: Option<PathBuf>,
    /// Read the new passphrase from an open file descriptor
    #[arg(long, value_name = "NUMBER", group = "new_passphrase")]
    new_passphrase_on: Option<u32>,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    const ATTEMPT: &str = "change the passphrase";
    let given =
        Given { file: args.new_passphrase_in.as_ref(), descriptor: args.new_passphrase_on, variable: None };
    let new = given.read().map_err(|error| Failure::of(ATTEMPT, &error))?;
    let report = passphrase(ctx, new).map_err(|error| Failure::of(ATTEMPT, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
