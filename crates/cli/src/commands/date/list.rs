//! `ninekeys date list`

use ninekeys_ops::Ctx;
use ninekeys_ops::date::list::date_list;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// List the dates that belong to no key; no passphrase needed
#[derive(Debug, clap::Args)]
pub(crate) struct Args {}

pub(crate) fn run(_: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = date_list(ctx).map_err(|error| Failure::of("list the dates", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
