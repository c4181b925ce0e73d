//! `ninekeys upload`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;
use std::time::Duration;

use ninekeys_ops::Ctx;
use ninekeys_ops::store::candidates::candidates;
use ninekeys_ops::store::upload::{Outcome, Request, UploadError, upload};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::{self, Output, Verdicts};

/// Send a build to the store, once nothing speaks against it
///
/// Checks the build for the store first, and stops where something is wrong: nothing is sent then. It goes in pieces, each with its
/// digest; an upload that was cut off goes on where it was. A build that is not signed for the store yet is signed by `--next`. The store is the one of the portal that the project file names.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// The build, signed for the store; without one, those that could go are listed
    build: Option<PathBuf>,
    /// The app that it has to be, when it does not say; without a build, the app whose builds are listed
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: Option<String>,
    /// Where its number is taken, or its version closed, give it the next one and sign it again, beside the build
    #[arg(long, requires = "build")]
    next: bool,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let Some(build) = args.build else {
        let report = candidates(ctx, args.app.as_deref());
        out.emit(&report.map_err(|error| Failure::of("list what could be uploaded", &error))?);
        return Ok(Exit::Done);
    };
    let named = build.display().to_string();
    let attempt = format!("upload {named}");
    let request = Request { build, app: args.app, next: args.next };
    let failed = |error: UploadError| {
        let failure = Failure::of(&attempt, &error).naming("BUILD", &named);
        match error {
            UploadError::Store(_)
            | UploadError::Connect(_)
            | UploadError::Refused { .. }
            | UploadError::Stopped
            | UploadError::Changed(_) => {
                failure.changed("the history says that it was tried; the store has no new build")
            }
            _ => failure,
        }
    };
    match upload(ctx, &request).map_err(failed)? {
        Outcome::Delivered(report) => {
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
