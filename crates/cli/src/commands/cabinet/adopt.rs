//! `ninekeys cabinet adopt`

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::adopt::adopt;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Take in what another copy of it has, after both were changed
///
/// Takes in what another copy of this cabinet has and this one lacks, after both were changed. The other copy is not
/// written to. What both have stays as it is here.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The other copy
    copy: std::path::PathBuf,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("take in what {} has", args.copy.display());
    let report = adopt(ctx, &args.copy).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
