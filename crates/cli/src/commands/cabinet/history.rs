//! `ninekeys cabinet history`

use std::path::PathBuf;

use clap_complete::engine::ArgValueCandidates;
use jiff::Timestamp;
use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::history::{Request, history};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Show what was done with it, and by whom
///
/// Shows every change of the cabinet, oldest first: when, what, by which member and on which machine. A row that was altered is told
/// whatever is asked for; --verify proves each by its author's signature. What was cut off is told by what has seen it: this
/// machine, the project file, and the copies that are named with --against. Ends with 1 when a copy has what is not here.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Prove every row by its author's signature, and not only those that a later one does not vouch for
    #[arg(long)]
    verify: bool,
    /// Only what touched this item
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::items))]
    item: Option<String>,
    /// Only from this time on: 2031-05-19
    #[arg(long, value_name = "TIME", value_parser = crate::clock::parse)]
    since: Option<Timestamp>,
    /// Only before this time
    #[arg(long, value_name = "TIME", value_parser = crate::clock::parse)]
    until: Option<Timestamp>,
    /// Only what this member did
    #[arg(long, value_name = "MEMBER", add = ArgValueCandidates::new(complete::members))]
    by: Option<String>,
    /// A copy whose rows have to be here; several times for several
    #[arg(long, value_name = "COPY")]
    against: Vec<PathBuf>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let Args { verify, item, since, until, by, against } = args;
    let request = Request { verify, item, since, until, by, against };
    let report = history(ctx, &request).map_err(|error| Failure::of("read the history", &error))?;
    out.emit(&report);
    Ok(if report.lacks_rows() { Exit::Findings } else { Exit::Done })
}
