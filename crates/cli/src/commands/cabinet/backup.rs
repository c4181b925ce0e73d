//! `ninekeys cabinet backup`

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::backup::{BackupError, backup};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Copy it into folders; a copy counts when it was read back and opened
///
/// Copies the cabinet into folders. Every copy is read back and opened before it counts.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Where the copies go; best on other disks
    #[arg(required = true, value_name = "FOLDER")]
    folders: Vec<std::path::PathBuf>,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = backup(ctx, &args.folders).map_err(|error| {
        let failure = Failure::of("back up the cabinet", &error);
        match &error {
            BackupError::Partly { done, .. } => {
                failure.changed(&format!("{} was made, proved and noted", done.join(", ")))
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
