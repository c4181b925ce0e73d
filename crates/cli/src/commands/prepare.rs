//! `ninekeys prepare`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_core::model::Destination;
use ninekeys_ops::Ctx;
use ninekeys_ops::prepare::{Request, prepare};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Make or renew whatever an app lacks for a destination
///
/// Says what is missing before an iOS build can be signed (key, certificate, app id, devices, profiles), and makes or renews
/// it: through the portal, where the project file says where it is and an API key may ask it; else it stops at each file that a
/// person has to fetch, says where from, and goes on from there when it is called again.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The app
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: String,
    /// Where its build goes
    #[arg(long = "for", value_name = "DESTINATION", add = ArgValueCandidates::new(complete::destinations))]
    destination: Destination,
    /// Only say what would be done
    #[arg(long)]
    dry_run: bool,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("prepare {} for {}", args.app, args.destination.phrase());
    let request =
        Request { app: args.app, destination: args.destination, dry_run: args.dry_run, sure: args.yes };
    let report = prepare(ctx, &request).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        match error.done() {
            Some(done) => failure.changed(&done),
            None => failure,
        }
    })?;
    out.emit(&report);
    Ok(if report.ready || report.dry_run { Exit::Done } else { Exit::Findings })
}
