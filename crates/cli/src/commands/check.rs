//! `ninekeys check`

use std::path::PathBuf;

use ninekeys_core::model::Destination;
use ninekeys_ops::Ctx;
use ninekeys_ops::check::{Request, check};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Looks at a build with every rule: its archive, its signature, who signed it, and what it says of itself,
/// compared with the project file and the last release. Works on a build alone as well. Ends with 1 when
/// there is an error.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The build
    build: PathBuf,
    /// Where it goes: direct, store or development
    #[arg(long = "for", value_name = "DESTINATION")]
    destination: Option<Destination>,
    /// The app it has to be, when its package does not say
    #[arg(long)]
    app: Option<String>,
    /// A version code that it has to be above, whatever the ledger says
    #[arg(long, value_name = "CODE")]
    above: Option<u64>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("check {}", args.build.display());
    let request =
        Request { build: args.build, destination: args.destination, app: args.app, above: args.above };
    let report = check(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(if report.ready { Exit::Done } else { Exit::Findings })
}
