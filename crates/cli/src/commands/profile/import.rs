//! `ninekeys profile import`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::profile::import::{Request, profile_import};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Take in provisioning profiles, their signature verified
///
/// Takes in provisioning profiles as the portal issues them. The signature of each is verified up to a root that the
/// project file names. A newer one of the same title, app and kind takes the place of the older, which is kept.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The files
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    /// What a new one is called; after its title when left out
    #[arg(long)]
    name: Option<String>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let names: Vec<String> = args.files.iter().map(|file| file.display().to_string()).collect();
    let attempt = format!("import {}", names.join(", "));
    let request = Request { files: args.files, name: args.name };
    let report = profile_import(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
