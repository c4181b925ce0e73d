//! `ninekeys cabinet remember`

use jiff::SignedDuration;
use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::remember::remember;

use crate::clock;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Stay unlocked for a while: this system keeps what unlocks the cabinet
///
/// Asks for the passphrase once more, and has the operating system's store for credentials keep what unlocks the cabinet: whoever
/// works as this user on this machine needs no passphrase until then. Nothing is remembered unless this was asked for.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// For how long, at most seven days: 30m, 8h, 2d
    #[arg(value_name = "TIME", default_value = "8h", value_parser = clock::time)]
    time: SignedDuration,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report =
        remember(ctx, args.time).map_err(|error| Failure::of("stay unlocked for a while", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
