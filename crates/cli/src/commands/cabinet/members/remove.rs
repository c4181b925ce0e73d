//! `ninekeys cabinet members remove`

use std::path::PathBuf;

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::members::remove::{MemberRemoveError, member_remove};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Remove a member, and seal anew what it could open
///
/// The member opens nothing from then on. Copies made before still open with its key: what it could open is said, and should be
/// replaced; --draft writes how.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The member, by its name or the beginning of its id
    #[arg(add = ArgValueCandidates::new(complete::members))]
    name: String,
    /// Write the draft of a rotation of what it could open
    #[arg(long, value_name = "FILE")]
    draft: Option<PathBuf>,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("remove {} from the members", args.name);
    let report = member_remove(ctx, &args.name, args.yes, args.draft.as_deref()).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        match &error {
            MemberRemoveError::Undrafted { member, .. } => {
                failure.changed(&format!("{member} is no member any more; no draft was written"))
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
