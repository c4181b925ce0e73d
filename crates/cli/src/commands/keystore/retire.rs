//! `ninekeys keystore retire`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::keystore::retire::keystore_retire;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Keep a keystore, and sign nothing with it any more
///
/// Keeps a keystore, and signs nothing with it any more: it is not picked by itself, and stands in lists as retired.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The keystore
    #[arg(add = ArgValueCandidates::new(complete::keystores))]
    keystore: String,
    /// Take it back into use
    #[arg(long)]
    back: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("retire the keystore {}", args.keystore);
    let report = keystore_retire(ctx, &args.keystore, args.back);
    out.emit(&report.map_err(|error| Failure::of(&attempt, &error))?);
    Ok(Exit::Done)
}
