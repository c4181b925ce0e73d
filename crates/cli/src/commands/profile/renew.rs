//! `ninekeys profile renew`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::profile::create::{Request, profile_create};

use super::failed;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Have a profile made again, with what there is now
///
/// Has a provisioning profile made again by the portal, with the devices, the identity and the capabilities that there are
/// now. It takes the place of the one that was there, which is kept.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The profile
    #[arg(add = ArgValueCandidates::new(complete::profiles))]
    profile: String,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("have {} made again", args.profile);
    let request = Request::Renew { profile: args.profile };
    let report = profile_create(ctx, &request).map_err(|error| failed(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
