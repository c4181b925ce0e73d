//! `ninekeys identity revoke`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::identity::revoke::{IdentityRevokeError, identity_revoke};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Revoke a certificate at the portal, after saying what falls with it
///
/// Revokes an identity's certificate through the portal: says first which profiles fall with it, and asks. The identity is
/// kept, retired.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The identity
    #[arg(add = ArgValueCandidates::new(complete::identities))]
    identity: String,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("revoke {}", args.identity);
    let report = identity_revoke(ctx, &args.identity, args.yes).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        match &error {
            IdentityRevokeError::Unnoted { .. } => {
                failure.changed("it is revoked at the portal; the same command again notes it here")
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
