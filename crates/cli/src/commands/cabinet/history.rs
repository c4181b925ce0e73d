//! `ninekeys cabinet history`

use ninekeys_ops::{Ctx, OpenError};

use crate::failure::{Exit, Failure};
use crate::output::{HistoryReport, Output};

/// Show what was done with it, and by whom
///
/// Shows every change of the cabinet, oldest first: when, what, and by which member.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Prove every row by its author's signature, and not only those that a later one does not vouch for
    #[arg(long)]
    verify: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    const ATTEMPT: &str = "read the history";
    let mut cabinet = ctx.open().map_err(|error| Failure::of(ATTEMPT, &error))?;
    let path = ctx.cabinet_path().map_err(|error| Failure::of(ATTEMPT, &error))?;
    let rows = cabinet
        .history(args.verify)
        .map_err(|cause| Failure::of(ATTEMPT, &OpenError::Cabinet { path, cause }))?;
    out.emit(&HistoryReport { rows, verified: args.verify });
    Ok(Exit::Done)
}
