//! `ninekeys app next`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::app::next::app_next;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Say the version and the number that the next build should have
///
/// Says what the next build of each side should have, before it is built: above every number that was signed, and above what is at the
/// store, where the project names one and a key may ask it. A version that is live is closed, and the one behind it is said.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// The app
    #[arg(add = ArgValueCandidates::new(complete::apps))]
    app: String,
    /// Go by the ledger alone, and ask no store
    #[arg(long)]
    ledger_alone: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("say the next build of {}", args.app);
    let report = app_next(ctx, &args.app, args.ledger_alone);
    out.emit(&report.map_err(|error| Failure::of(&attempt, &error))?);
    Ok(Exit::Done)
}
