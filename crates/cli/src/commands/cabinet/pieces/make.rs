//! `ninekeys cabinet pieces make`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::pieces::make::{PiecesMakeError, Request, pieces_make};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Make recovery pieces: some of them open the cabinet when all else is lost
///
/// Writes so many pieces, each a page to be printed and kept by somebody else. Any of them, as many as are needed, open the cabinet;
/// fewer tell nothing. Pieces that were made before open nothing from then on.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// How many pieces there are
    #[arg(long, value_name = "NUMBER", default_value_t = 5)]
    of: u8,
    /// How many of them open the cabinet
    #[arg(long, value_name = "NUMBER", default_value_t = 3)]
    needed: u8,
    /// The folder for the pieces
    #[arg(long, value_name = "FOLDER")]
    to: PathBuf,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let Args { of, needed, to } = args;
    let report = pieces_make(ctx, &Request { of, needed, to }).map_err(|error| {
        let failure = Failure::of("make recovery pieces", &error);
        match &error {
            PiecesMakeError::Unnamed { done, .. } => {
                let done = if done.is_empty() { "none".into() } else { done.join(", ") };
                failure.changed(&format!(
                    "the cabinet has new pieces, and of their files {done} has its name: make them again"
                ))
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
