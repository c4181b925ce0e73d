//! `ninekeys advance`

use clap::ValueEnum;
use ninekeys_ops::Ctx;
use ninekeys_ops::store::advance::{AdvanceError, Request, To, advance};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Where a build goes.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum Word {
    /// To testers
    Testing,
    /// To everyone, by way of a review
    Everyone,
}

/// Have a build at the store go on: to testers, or to everyone
///
/// The very bytes that are at the store go on. A file is compared with them by its hash; a name, a number or the id that the store
/// gave is looked up there.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The build: a file, the name that it had, its number, or its id at the store
    build: String,
    /// Where it goes
    #[arg(long, value_enum)]
    to: Word,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let (to, word) = match args.to {
        Word::Testing => (To::Testing, "testers"),
        Word::Everyone => (To::Everyone, "everyone"),
    };
    let attempt = format!("have {} go to {word}", args.build);
    let request = Request { build: args.build, to, sure: args.yes };
    let report = advance(ctx, &request).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        match error {
            AdvanceError::Store(_) | AdvanceError::Refused(_) => {
                failure.changed("the history says that it was tried; the build is where it was")
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
