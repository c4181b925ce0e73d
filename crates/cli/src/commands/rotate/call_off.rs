//! `ninekeys rotate call-off`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::rotate::call_off::rotate_call_off;

use super::failed;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Give a rotation up, and undo what can be undone
///
/// What was made for it is retired (kept, and used for nothing), what it had retired is in use again. What cannot be undone is
/// said: a certificate that was issued or revoked, what a person did.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The rotation; the one that is under way when nothing is said
    #[arg(add = ArgValueCandidates::new(complete::rotations))]
    rotation: Option<String>,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("call off {}", args.rotation.as_deref().unwrap_or("the rotation"));
    let report =
        rotate_call_off(ctx, args.rotation.as_deref(), args.yes).map_err(|error| failed(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
