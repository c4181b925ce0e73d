//! `ninekeys given`

use ninekeys_ops::Ctx;
use ninekeys_ops::given::given;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Who was given what, and whether it is still what is used
///
/// Lists what outside services were given by `ninekeys give`, the newest first: what of it has ended, was revoked or has a
/// successor, so that whoever has it can be told.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Of one receiver alone
    #[arg(long, value_name = "NAME")]
    receiver: Option<String>,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = given(ctx, args.receiver.as_deref())
        .map_err(|error| Failure::of("list who was given what", &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
