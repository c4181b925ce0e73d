//! `ninekeys cabinet restore`

use ninekeys_ops::Ctx;
use ninekeys_ops::restore::restore;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Brings back the cabinet from one of its copies. The copy is unlocked and proved first.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The copy
    copy: std::path::PathBuf,
    /// Take the place of the cabinet that is there
    #[arg(long)]
    replace: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("restore the cabinet from {}", args.copy.display());
    let report = restore(ctx, &args.copy, args.replace).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
