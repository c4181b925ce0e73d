//! `ninekeys device rename`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::device::rename::device_rename;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Give a device another name; nothing else of it can change
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The device: its name, or its identifier
    #[arg(add = ArgValueCandidates::new(complete::devices))]
    device: String,
    /// What people call it from now on
    name: String,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("rename the device {}", args.device);
    let report =
        device_rename(ctx, &args.device, &args.name).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
