//! `ninekeys sweep`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::sweep::{Request, bring_back, sweep};

use crate::arguments::Format;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Find loose and leaked material on disk, by what it is
///
/// Looks through folders for keystores, private keys, certificates, profiles, service keys and passwords in settings, whatever they
/// are called, and through the history of repositories on the way. Says which are in the cabinet, which others can read, and which
/// are the same key under several names. Ends with 1 when something secret lies where it should not. What is found is never shown.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The folders, or files
    #[arg(required_unless_present = "bring_back", value_name = "DIR")]
    places: Vec<PathBuf>,
    /// Move what is proven to be a copy of something in the cabinet, and dead profiles, into this folder
    #[arg(long, value_name = "FOLDER")]
    set_aside: Option<PathBuf>,
    /// Take what the cabinet does not have into it; what lies there stays there
    #[arg(long)]
    import: bool,
    /// Bring back what a list says that was set aside
    #[arg(long, value_name = "LIST", conflicts_with_all = ["places", "set_aside", "import"])]
    bring_back: Option<PathBuf>,
    /// Leave out what repositories had once
    #[arg(long)]
    no_history: bool,
    /// How the answer is printed
    #[arg(long, value_parser = Format::among(&["text", "json", "sarif"]), default_value = "text", help_heading = "Everywhere")]
    format: Format,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    if let Some(list) = &args.bring_back {
        let attempt = format!("bring back what {} says", list.display());
        let report = bring_back(ctx, list).map_err(|error| {
            let failure = Failure::of(&attempt, &error);
            error.done().into_iter().fold(failure, Failure::changed)
        })?;
        out.emit(&report);
        return Ok(if report.left.is_empty() { Exit::Done } else { Exit::Findings });
    }
    let names: Vec<String> = args.places.iter().map(|place| place.display().to_string()).collect();
    let attempt = format!("look through {}", names.join(", "));
    let request = Request {
        places: args.places,
        history: !args.no_history,
        take_in: args.import,
        aside: args.set_aside,
    };
    let report = sweep(ctx, &request).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        error.done().into_iter().fold(failure, Failure::changed)
    })?;
    out.emit_sweep(&report);
    Ok(if report.leaks() { Exit::Findings } else { Exit::Done })
}
