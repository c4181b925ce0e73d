//! `ninekeys inspect`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::inspect::inspect;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Tells what is in an APK, a certificate (PEM or DER) or an item of the cabinet, by its content.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Files, or names of items
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    for file in &args.files {
        let attempt = format!("inspect {}", file.display());
        let report = inspect(ctx, file).map_err(|error| Failure::of(&attempt, &error))?;
        out.emit(&report);
    }
    Ok(Exit::Done)
}
