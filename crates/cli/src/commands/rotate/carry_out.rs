//! `ninekeys rotate carry-out`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::rotate::carry_out::{Request, rotate_carry_out};

use super::{exit, failed};
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Carry a draft out, step by step
///
/// Compares the draft with the cabinet first, and refuses one that no longer fits, saying what is other. Each step is noted before
/// it is begun and when it is done, so that `rotate resume` goes on after any interruption. It stops at what a person has to do,
/// and says what. Nothing is retired before its successor has signed and passed a check.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The draft
    #[arg(value_name = "FILE")]
    file: PathBuf,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("carry out {}", args.file.display());
    let request = Request { file: args.file, sure: args.yes };
    let report = rotate_carry_out(ctx, &request).map_err(|error| failed(&attempt, &error))?;
    out.emit(&report);
    Ok(exit(&report))
}
