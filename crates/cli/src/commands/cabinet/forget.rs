//! `ninekeys cabinet forget`

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::remember::forget;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Lock the cabinet again before the time is over
///
/// Takes what `cabinet remember` had the operating system keep out of its store.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {}

pub(crate) fn run(_args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = forget(ctx).map_err(|error| Failure::of("forget what unlocks the cabinet", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
