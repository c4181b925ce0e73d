//! `ninekeys app add`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_core::model::Destination;
use ninekeys_ops::Ctx;
use ninekeys_ops::app::Request;
use ninekeys_ops::app::add::app_add;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Write an app into the project file
///
/// Writes an app into the project file and keeps what stands there, comments included.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Its name in commands and file names
    name: String,
    /// What people call it; the name with a capital when left out
    #[arg(long)]
    title: Option<String>,
    /// The Android package
    #[arg(long)]
    package: Option<String>,
    /// The iOS bundle id
    #[arg(long)]
    bundle_id: Option<String>,
    /// Where its builds go, once for each: direct, store, devices, development, in-house
    #[arg(long = "for", value_name = "DESTINATION", add = ArgValueCandidates::new(complete::destinations))]
    destinations: Vec<Destination>,
    /// The version that the next build should have
    #[arg(long, value_name = "VERSION")]
    version_name: Option<String>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("add the app {}", args.name);
    let request = Request {
        name: args.name,
        title: args.title,
        package: args.package,
        bundle_id: args.bundle_id,
        destinations: args.destinations,
        version: args.version_name,
    };
    let report = app_add(ctx, request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
