//! `ninekeys show`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::show::show;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Show one item with all that hangs on it
///
/// Shows one item, whole, with everything that hangs on it.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Its name, or any beginning that only it has
    #[arg(add = ArgValueCandidates::new(complete::items))]
    name: String,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("show {}", args.name);
    let report = show(ctx, &args.name).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
