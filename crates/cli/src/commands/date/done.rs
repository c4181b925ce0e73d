//! `ninekeys date done`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::date::done::date_done;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Say that a date was seen to; one that recurs falls due again
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The date, by its name
    #[arg(add = ArgValueCandidates::new(complete::dates))]
    name: String,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("note that {} was seen to", args.name);
    let report = date_done(ctx, &args.name).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
