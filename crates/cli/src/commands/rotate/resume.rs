//! `ninekeys rotate resume`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::rotate::carry_out::{Resume, rotate_resume};

use super::{exit, failed};
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Go on with a rotation where it stopped
///
/// After an interruption, or when what it waited for is there: a certificate that was taken in is seen by itself, what a person did
/// elsewhere is said with `--done`.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The rotation; the one that is under way when nothing is said
    #[arg(add = ArgValueCandidates::new(complete::rotations))]
    rotation: Option<String>,
    /// A step that you did, by its number; several times for several
    #[arg(long, value_name = "NUMBER")]
    done: Vec<usize>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("go on with {}", args.rotation.as_deref().unwrap_or("the rotation"));
    let request = Resume { rotation: args.rotation, done: args.done };
    let report = rotate_resume(ctx, &request).map_err(|error| failed(&attempt, &error))?;
    out.emit(&report);
    Ok(exit(&report))
}
