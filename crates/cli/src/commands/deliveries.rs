//! `ninekeys deliveries`

use clap_complete::engine::ArgValueCandidates;
use std::time::Duration;

use ninekeys_ops::Ctx;
use ninekeys_ops::store::deliveries::{DeliveriesReport, deliveries};
use ninekeys_portal::store::Stage;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// How long it is waited between two looks.
const PAUSE: Duration = Duration::from_millis(500);

/// Say what is at the store, and how far it is
///
/// Asks the store for its builds: version, number, how far each is and since when, and how long that took the last time.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only of this app
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: Option<String>,
    /// Wait until the store has looked at all of them
    #[arg(long)]
    watch: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
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
