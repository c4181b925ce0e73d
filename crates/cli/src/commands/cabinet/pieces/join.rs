//! `ninekeys cabinet pieces join`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::issue::IssueError;
use ninekeys_ops::cabinet::pieces::join::{PiecesJoinError, pieces_join};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Join recovery pieces, and make an unlock file of what they open
///
/// Reads the pieces from files, or asks for them one by one. A piece that was typed wrongly is told by its checksum.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Files with a piece each; asked for when none is named
    #[arg(value_name = "FILE")]
    pieces: Vec<PathBuf>,
    /// The unlock file that opens the cabinet from then on
    #[arg(long, value_name = "FILE")]
    new_unlock_file: PathBuf,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = pieces_join(ctx, &args.pieces, &args.new_unlock_file).map_err(|error| {
        let failure = Failure::of("open the cabinet with recovery pieces", &error);
        match &error {
            PiecesJoinError::Issue(IssueError::Unnamed { member, .. }) => {
                failure.changed(&format!("{member} is a member now, and opens with a file that is not there"))
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
