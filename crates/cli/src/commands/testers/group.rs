//! `ninekeys testers group`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::store::testers::group;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Make a group of testers, or say anew whom and what it is for
///
/// A group inside the company gets every build that goes to testers; one outside of it those that name it.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// What it is called
    group: String,
    /// Its people are from outside the company
    #[arg(long)]
    outside: bool,
    /// An app that it tries; several times for several, all when none is named
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    app: Vec<String>,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = group(ctx, &args.group, args.outside, &args.app);
    let attempt = format!("make the group {}", args.group);
    out.emit(&report.map_err(|error| super::invite::told(Failure::of(&attempt, &error), &error))?);
    Ok(Exit::Done)
}
