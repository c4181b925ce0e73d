//! `ninekeys cabinet members list`

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::members::list::members;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Who opens the cabinet, with what they may do; no passphrase needed
#[derive(Debug, clap::Args)]
pub(crate) struct Args {}

pub(crate) fn run(_: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = members(ctx).map_err(|error| Failure::of("list the members", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
