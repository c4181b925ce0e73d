//! `ninekeys apikey retire`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::apikey::retire::apikey_retire;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Make no tokens with it any more; it is kept
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The API key
    #[arg(add = ArgValueCandidates::new(complete::api_keys))]
    api_key: String,
    /// Take it back into use
    #[arg(long)]
    back: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("retire {}", args.api_key);
    let report =
        apikey_retire(ctx, &args.api_key, args.back).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
