//! `ninekeys cabinet status`

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::status::status;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Say who can unlock it, how it is kept, and when it was last copied
///
/// Says who can unlock the cabinet, whether its history is unbroken, and when it was last copied.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Unlock it, and open every seal in it
    #[arg(long)]
    prove: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = status(ctx, args.prove).map_err(|error| Failure::of("look at the cabinet", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
