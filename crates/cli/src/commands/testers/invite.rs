//! `ninekeys testers invite`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::store::testers::{Invite, TestersError, invite};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Invite people into a group of testers
///
/// Every address is looked at before the first mail is sent. Who was invited before is not written to again, so that the same file
/// can be given again with more people in it.
#[derive(Debug, clap::Args)]
#[command(group(clap::ArgGroup::new("who").required(true).multiple(true).args(["addresses", "from"])))]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// Their addresses for mail
    #[arg(value_name = "ADDRESS")]
    addresses: Vec<String>,
    /// The group
    #[arg(long)]
    group: String,
    /// A file with a line for each: the address, and the name behind a comma, a semicolon or a tab
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
}

/// What was changed by a call that ended before its end.
pub(super) fn told(failure: Failure, error: &TestersError) -> Failure {
    match error {
        TestersError::Partly { .. } => {
            failure.changed("who was invited stays invited; called again it goes on")
        }
        TestersError::Store(_) | TestersError::Refused(_) | TestersError::Connect(_) => {
            failure.changed("the history says that it was tried; the testers are as they were")
        }
        _ => failure,
    }
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("invite people to {}", args.group);
    let request = Invite { group: args.group, addresses: args.addresses, from: args.from };
    let report = invite(ctx, &request);
    out.emit(&report.map_err(|error| told(Failure::of(&attempt, &error), &error))?);
    Ok(Exit::Done)
}
