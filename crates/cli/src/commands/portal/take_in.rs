//! `ninekeys portal take-in`

use ninekeys_ops::Ctx;
use ninekeys_ops::portal::take_in::{PortalTakeInError, portal_take_in};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Take in what stands at the portal: certificates, app ids, devices, profiles
///
/// Asks the portal for everything of the team, says of each whether it is new, known, or something else there than here, and
/// which of them nothing uses; and takes in what is new: certificates, devices and profiles into the cabinet, app ids into the
/// project file. What was revoked at the portal is noted. What is called otherwise there, or has other capabilities, is said
/// and left as it is.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only say what there is
    #[arg(long)]
    dry_run: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = portal_take_in(ctx, args.dry_run).map_err(|error| {
        let failure = Failure::of("take in what stands at the portal", &error);
        match &error {
            PortalTakeInError::HalfWay { apps, .. } => failure.changed(&format!(
                "the project file has {} now; the same command again does the rest",
                apps.join(", ")
            )),
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
