//! `ninekeys cabinet restore`

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::restore::restore;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Bring back a cabinet from one of its copies
///
/// Brings the cabinet back to one of its copies. The copy is unlocked and proved first, and not written to. What is
/// there now is set aside under another name; what the copy lacks of it is listed, and asked about.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The copy
    copy: std::path::PathBuf,
    /// Go back, whatever the copy lacks; without being asked
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("restore the cabinet from {}", args.copy.display());
    let report = restore(ctx, &args.copy, args.yes).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
