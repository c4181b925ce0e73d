//! `ninekeys app remove`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::app::remove::app_remove;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Take an app out of the project file; its keys stay
///
/// Takes an app out of the project file. Its keys and its releases stay in the cabinet.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The app
    #[arg(add = ArgValueCandidates::new(complete::apps))]
    app: String,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("remove the app {}", args.app);
    let report = app_remove(ctx, &args.app, args.yes).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
