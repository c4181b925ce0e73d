//! `ninekeys app change`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_core::model::Destination;
use ninekeys_ops::Ctx;
use ninekeys_ops::app::Request;
use ninekeys_ops::app::change::app_change;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Change title, ids, version or destinations of an app
///
/// Changes what the project file says of an app and keeps everything else in it, comments included.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The app
    #[arg(add = ArgValueCandidates::new(complete::apps))]
    app: String,
    /// What people call it from now on
    #[arg(long)]
    title: Option<String>,
    /// Its Android package
    #[arg(long)]
    package: Option<String>,
    /// Its iOS bundle id
    #[arg(long)]
    bundle_id: Option<String>,
    /// Where its builds go, once for each, in the place of what stands there
    #[arg(long = "for", value_name = "DESTINATION", add = ArgValueCandidates::new(complete::destinations))]
    destinations: Vec<Destination>,
    /// The version that the next build should have
    #[arg(long, value_name = "VERSION")]
    version_name: Option<String>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("change the app {}", args.app);
    let request = Request {
        name: args.app,
        title: args.title,
        package: args.package,
        bundle_id: args.bundle_id,
        destinations: args.destinations,
        version: args.version_name,
    };
    let report = app_change(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
