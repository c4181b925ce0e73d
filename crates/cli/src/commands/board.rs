//! `ninekeys board`

use ninekeys_ops::Ctx;
use ninekeys_ops::board::board;

use crate::failure::{Exit, Failure};
use crate::output::{Drawn, Output};

/// Show the state of everything: nine keys, every app
///
/// Shows one row an app and one column a key: what is in use, what falls due, what is missing, and what to do. Of very many apps a
/// terminal shows those with something to do.
#[derive(Debug, Default, clap::Args)]
pub(crate) struct Args {
    /// Every app and everything to do, however many they are
    #[arg(long)]
    all: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = board(ctx).map_err(|error| Failure::of("show the board", &error))?;
    out.emit(&Drawn { board: &report, all: args.all });
    Ok(Exit::Done)
}
