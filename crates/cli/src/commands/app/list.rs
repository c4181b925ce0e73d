//! `ninekeys app list`

use ninekeys_ops::Ctx;
use ninekeys_ops::app::list::app_list;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// List the apps and the keystores that hold their keys
///
/// Lists the apps of the project file: ids, destinations, and the keystores that hold their keys.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {}

pub(crate) fn run(_args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = app_list(ctx).map_err(|error| Failure::of("list the apps", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
