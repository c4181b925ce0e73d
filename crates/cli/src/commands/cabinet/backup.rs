//! `ninekeys cabinet backup`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::backup::{BackupError, backup};
use ninekeys_ops::cabinet::drill::drill;

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Copy it into folders; a copy counts when it was read back and opened
///
/// Copies the cabinet into folders. Every copy is read back and opened before it counts. With --drill the newest copy, or the one
/// that is named, is restored into a scratch place, and every key in it signs a probe: nothing of the cabinet is touched.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Where the copies go; best on other disks
    #[arg(required_unless_present = "drill", value_name = "FOLDER")]
    folders: Vec<PathBuf>,
    /// These folders are kept elsewhere than the cabinet, or go there; it is remembered of the copies
    #[arg(long, conflicts_with = "drill")]
    off_site: bool,
    /// Have every key in a copy sign; the newest copy when none is named
    #[arg(long, value_name = "COPY", num_args = 0..=1, conflicts_with = "folders")]
    drill: Option<Option<PathBuf>>,
}

fn unnoted(error: &BackupError) -> Option<String> {
    match error {
        BackupError::Unnoted { place, .. } => Some(format!("{place} is there, and nothing counts on it")),
        _ => None,
    }
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    if let Some(copy) = &args.drill {
        let report =
            drill(ctx, copy.as_deref()).map_err(|error| Failure::of("try a copy of the cabinet", &error))?;
        out.emit(&report);
        return Ok(if report.is_good() { Exit::Done } else { Exit::Findings });
    }
    let report = backup(ctx, &args.folders, args.off_site).map_err(|error| {
        let failure = Failure::of("back up the cabinet", &error);
        match &error {
            BackupError::Partly { done, cause } => {
                let noted = format!("{} was made, proved and noted", done.join(", "));
                failure.changed(&match unnoted(cause) {
                    Some(more) => format!("{noted}; {more}"),
                    None => noted,
                })
            }
            other => match unnoted(other) {
                Some(more) => failure.changed(&more),
                None => failure,
            },
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
