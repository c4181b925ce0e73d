//! `ninekeys app statement`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::app::statement::app_statement;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Print the file that ties a web domain to an app
///
/// Prints the file that ties a web domain to an app, to be put at /.well-known/assetlinks.json of the domain: with it devices
/// open the domain's links in the app. It names the package and the certificates of the app's signing keys.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The app
    #[arg(add = ArgValueCandidates::new(complete::apps))]
    app: String,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("state what {} is signed with", args.app);
    let report = app_statement(ctx, &args.app).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
