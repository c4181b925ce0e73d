//! `ninekeys profile create`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_core::model::Destination;
use ninekeys_ops::Ctx;
use ninekeys_ops::profile::create::{Request, profile_create};

use super::failed;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Have a profile made by the portal
///
/// Has a provisioning profile made by the portal, with the identity that ends last and every device that there is (where the
/// kind has devices), under a name that says app, kind and year.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The app
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: String,
    /// What builds with it are for
    #[arg(long = "for", value_name = "DESTINATION", add = ArgValueCandidates::new(complete::destinations))]
    destination: Destination,
    /// The identity that it is to name, where several could be; the one that ends last when left out and nobody can be asked
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::identities))]
    identity: Option<String>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("have a profile made for {}, for {}", args.app, args.destination.phrase());
    let request = Request::Create { app: args.app, destination: args.destination, identity: args.identity };
    let report = profile_create(ctx, &request).map_err(|error| failed(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
