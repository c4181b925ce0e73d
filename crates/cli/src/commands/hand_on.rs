//! `ninekeys hand-on`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;
use std::time::Duration;

use ninekeys_core::model::Destination;
use ninekeys_ops::Ctx;
use ninekeys_ops::build::hand_on::{Outcome, Request, hand_on};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::{self, Output, Verdicts};

/// Put a build that goes to no store into a folder, with what whoever gets it has to know
///
/// Checks the build for where it goes first, and stops where something is wrong. The folder has the build, its SHA-256 in a form that
/// `sha256sum --check` reads, and a sheet: which version it is, who signed it, which devices can run it, and until when.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The build, signed for devices, in-house or direct
    build: PathBuf,
    /// Where it goes; what it was signed for when left out
    #[arg(long = "for", value_name = "DESTINATION", add = ArgValueCandidates::new(complete::destinations))]
    destination: Option<Destination>,
    /// The app that it has to be, when it does not say
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: Option<String>,
    /// The folder, which is not there yet or empty
    #[arg(long, value_name = "FOLDER")]
    to: PathBuf,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let named = args.build.display().to_string();
    let attempt = format!("hand {named} on");
    let request = Request { build: args.build, destination: args.destination, app: args.app, to: args.to };
    match hand_on(ctx, &request).map_err(|error| Failure::of(&attempt, &error).naming("BUILD", &named))? {
        Outcome::HandedOn(report) => {
            out.emit(&*report);
            Ok(Exit::Done)
        }
        Outcome::NotReady(check) => {
            let one =
                output::Outcome { build: named, check: Some(*check), error: None, took: Duration::ZERO };
            let verdicts = Verdicts::new(vec![one], ctx.env.now, false);
            out.emit_verdicts(&verdicts);
            Ok(verdicts.exit())
        }
    }
}
