//! `ninekeys testers remove`

use ninekeys_ops::Ctx;
use ninekeys_ops::store::testers::remove;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Take somebody out of a group of testers
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// The address for mail
    address: String,
    /// The group
    #[arg(long)]
    group: String,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("take {} out of {}", args.address, args.group);
    let report = remove(ctx, &args.group, &args.address);
    out.emit(&report.map_err(|error| super::invite::told(Failure::of(&attempt, &error), &error))?);
    Ok(Exit::Done)
}
