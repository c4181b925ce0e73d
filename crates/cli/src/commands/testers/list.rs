//! `ninekeys testers list`

use ninekeys_ops::Ctx;
use ninekeys_ops::store::testers::list;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// The groups of testers, who of them accepted, and which builds they have
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {}

pub(crate) fn run(_: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    out.emit(&list(ctx).map_err(|error| Failure::of("list the testers", &error))?);
    Ok(Exit::Done)
}
