//! `ninekeys profile export`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::profile::export::{Request, profile_export};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Write a profile's file, as it came in
///
/// Writes the file of a provisioning profile, byte for byte as it came in, for a build program that wants it.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The profile
    #[arg(add = ArgValueCandidates::new(complete::profiles))]
    profile: String,
    /// The file; its identifier with the usual ending when left out
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// Take the place of a file that is there
    #[arg(long)]
    replace: bool,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("export {}", args.profile);
    let request = Request { name: args.profile, to: args.to, replace: args.replace };
    let report = profile_export(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
