//! `ninekeys cabinet unlock-file`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::issue::IssueError;
use ninekeys_ops::cabinet::unlock_file::unlock_file;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Make a file that unlocks the cabinet at once, for machines
///
/// Makes a file that unlocks the cabinet at once, for build machines and tests; what opens the cabinet now opens it still.
/// Whoever has the file needs no passphrase. Name it by --unlock-file, NINEKEYS_UNLOCK_FILE, or in the project file.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The file
    file: PathBuf,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("make the unlock file {}", args.file.display());
    let report = unlock_file(ctx, &args.file).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        match &error {
            IssueError::Unnamed { member, .. } => {
                failure.changed(&format!("{member} is a member now, and opens with a file that is not there"))
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
