//! `ninekeys device import`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::device::import::{Request, device_import};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Register the devices of a file, all of them or none
///
/// Registers the devices of a file: lines of identifier and name, with tabs or commas between; a line of heads may stand
/// first. Every bad line is named, and nothing is registered unless all are good. Devices that are known are passed over.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The file
    file: PathBuf,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("register the devices of {}", args.file.display());
    let request = Request { file: args.file };
    let report = device_import(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
