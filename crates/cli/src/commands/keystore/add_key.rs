//! `ninekeys keystore add-key`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::keystore::create::keystore_add_key;

use super::args::KeyArgs;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Make another key in a keystore
///
/// Makes another key, with its certificate, in a keystore that is there. At least one of the subject's fields is
/// needed.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The keystore
    #[arg(add = ArgValueCandidates::new(complete::keystores))]
    keystore: String,
    #[command(flatten)]
    key: KeyArgs,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("add a key to the keystore {}", args.keystore);
    let report = keystore_add_key(ctx, &args.keystore, args.key.into());
    out.emit(&report.map_err(|error| Failure::of(&attempt, &error))?);
    Ok(Exit::Done)
}
