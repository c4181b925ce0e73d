//! `ninekeys releases`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::build::releases::{compare_releases, releases};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Show what was signed with what
///
/// Shows what was signed with what, newest first.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only of this app
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: Option<String>,
    /// Compare each last release with the one before it: what people and devices see of it, and sizes by folder
    #[arg(long)]
    compare: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let app = args.app.as_deref();
    let failed = |error| Failure::of("read the ledger", &error);
    if args.compare {
        out.emit(&compare_releases(ctx, app).map_err(failed)?);
    } else {
        out.emit(&releases(ctx, app).map_err(failed)?);
    }
    Ok(Exit::Done)
}
