//! `ninekeys rotate`: material is replaced by a written draft that can be reviewed first.

mod call_off;
mod carry_out;
mod draft;
mod resume;

use clap::Subcommand;
use ninekeys_ops::Ctx;
use ninekeys_ops::rotate::{Progress, RotateError, RotationReport};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// `ninekeys rotate …`
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Draft(draft::Args),
    CarryOut(carry_out::Args),
    Resume(resume::Args),
    CallOff(call_off::Args),
}

/// Why it did not go on, and what was done before.
fn failed(attempt: &str, error: &RotateError) -> Failure {
    let failure = Failure::of(attempt, error);
    error.done().into_iter().fold(failure, |failure, done| failure.changed(&done))
}

/// What is waited for is not done yet.
fn exit(report: &RotationReport) -> Exit {
    if report.progress == Progress::Waiting { Exit::Findings } else { Exit::Done }
}

/// Runs one of them.
pub(crate) fn run(command: Command, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        Command::Draft(args) => draft::run(args, ctx, out),
        Command::CarryOut(args) => carry_out::run(args, ctx, out),
        Command::Resume(args) => resume::run(args, ctx, out),
        Command::CallOff(args) => call_off::run(&args, ctx, out),
    }
}
