//! `ninekeys deliveries`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;
use std::time::Duration;

use ninekeys_ops::Ctx;
use ninekeys_ops::store::deliveries::{DeliveriesReport, deliveries};
use ninekeys_ops::store::fetch::{Request, fetch};
use ninekeys_portal::store::Stage;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// How long it is waited between two looks.
const PAUSE: Duration = Duration::from_millis(500);

/// Say what is at the store, and how far it is
///
/// Asks the store for its builds: version, number, how far each is and since when, and how long that took the last time. Where the
/// store signs what devices get, --get fetches that.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// Only of this app
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: Option<String>,
    /// Wait until the store has looked at all of them
    #[arg(long, conflicts_with = "get")]
    watch: bool,
    /// Fetch what devices get of a build, so that it can be checked: a file, the name that it had, its number, or its id at the store
    #[arg(long, value_name = "BUILD", requires = "output", conflicts_with = "app")]
    get: Option<String>,
    /// The file that is written with it
    #[arg(long = "to", id = "output", value_name = "FILE", requires = "get")]
    to: Option<PathBuf>,
    /// Take the place of a file that is there
    #[arg(long, requires = "get")]
    replace: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    if let (Some(build), Some(to)) = (&args.get, &args.to) {
        let attempt = format!("fetch what devices get of {build}");
        let request = Request { build: build.clone(), to: to.clone(), replace: args.replace };
        out.emit(&fetch(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?);
        return Ok(Exit::Done);
    }
    let failed = |error| Failure::of("ask the store for its builds", &error);
    let is_at_it = |report: &DeliveriesReport| {
        report.deliveries.iter().any(|one| one.delivery.stage == Stage::Processing)
    };
    let mut report = deliveries(ctx, args.app.as_deref()).map_err(failed)?;
    while args.watch && is_at_it(&report) && !ctx.env.stopped() {
        std::thread::sleep(PAUSE);
        report = deliveries(ctx, args.app.as_deref()).map_err(failed)?;
    }
    out.emit(&report);
    Ok(Exit::Done)
}
