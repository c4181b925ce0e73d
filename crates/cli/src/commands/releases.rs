//! `ninekeys releases`

use ninekeys_ops::Ctx;
use ninekeys_ops::releases::releases;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Shows what was signed with what, newest first.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only of this app
    #[arg(long)]
    app: Option<String>,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report =
        releases(ctx, args.app.as_deref()).map_err(|error| Failure::of("read the ledger", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
