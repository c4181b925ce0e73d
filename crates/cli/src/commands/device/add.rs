//! `ninekeys device add`

use std::path::Path;

use ninekeys_ops::Ctx;
use ninekeys_ops::device::add::{Request, device_add};
use ninekeys_ops::device::attached::{USB, attached};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Register a device by its hardware identifier
///
/// Registers a device: 40 hexadecimal digits, or 8 and 16 with a dash between. Where the system tells of devices at its
/// USB bus, the one that is attached is taken.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// What people call it
    name: String,
    /// Its hardware identifier
    #[arg(long, value_name = "IDENTIFIER", conflicts_with = "attached")]
    identifier: Option<String>,
    /// The device at this machine's USB bus
    #[arg(long)]
    attached: bool,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("register the device {}", args.name);
    let attached = args.attached.then(|| attached(Path::new(USB)));
    let request = Request { title: args.name, identifier: args.identifier, attached };
    let report = device_add(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
