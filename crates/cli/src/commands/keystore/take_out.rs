//! `ninekeys keystore take-out`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::keystore::take_out::keystore_take_out;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Take a keystore out that came in by mistake
///
/// Takes a keystore out of the cabinet that came in by mistake, with the keys that hang on it alone. A key that no backup has
/// goes only with a yes; one that signed a release, or stands in another keystore, stays.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The keystore
    #[arg(add = ArgValueCandidates::new(complete::keystores))]
    keystore: String,
    /// Do it without asking, whatever no backup has
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("take the keystore {} out", args.keystore);
    let report = keystore_take_out(ctx, &args.keystore, args.yes);
    out.emit(&report.map_err(|error| Failure::of(&attempt, &error))?);
    Ok(Exit::Done)
}
