//! `ninekeys cabinet pin`

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::pin::pin;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Say which cabinet it is, and that it is the one that is meant
///
/// Says which cabinet it is, by the hash of its first row of history. With the first 16 digits of that hash or more,
/// compared with somebody who knows it, this one is meant from now on: the project file pins it, and this machine
/// remembers it as it is.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The cabinet's identity, or its first 16 digits or more
    identity: Option<String>,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report =
        pin(ctx, args.identity.as_deref()).map_err(|error| Failure::of("pin the cabinet", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
