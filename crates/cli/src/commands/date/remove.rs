//! `ninekeys date remove`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::date::remove::date_remove;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Take a date out
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The date, by its name
    #[arg(add = ArgValueCandidates::new(complete::dates))]
    name: String,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("take {} out", args.name);
    let report = date_remove(ctx, &args.name).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
