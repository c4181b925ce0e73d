//! `ninekeys inventory`

use ninekeys_ops::Ctx;
use ninekeys_ops::inventory::inventory;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// List everything in the cabinet
///
/// Lists everything in the cabinet, without a passphrase. Releases have a list of their own.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {}

pub(crate) fn run(_args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = inventory(ctx).map_err(|error| Failure::of("list the cabinet", &error))?;
    out.emit(&report);
    // the program ends here: to free 100,000 lines would only take time
    std::mem::forget(report);
    Ok(Exit::Done)
}
