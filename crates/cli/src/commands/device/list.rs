//! `ninekeys device list`

use ninekeys_ops::Ctx;
use ninekeys_ops::device::list::device_list;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// List the devices, and the profiles that allow them
#[derive(Debug, clap::Args)]
pub(crate) struct Args {}

pub(crate) fn run(_args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = device_list(ctx).map_err(|error| Failure::of("list the devices", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
