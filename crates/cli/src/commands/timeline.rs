//! `ninekeys timeline`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::timeline::{MOST_MONTHS, timeline};

use crate::arguments::Format;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Show what ends when, in the coming months
///
/// A bar an item, from today to its end, by app; what has ended stands before today's line, and what ends later is counted below. No
/// passphrase is needed.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// How many months
    #[arg(long, value_name = "NUMBER", default_value_t = 12, value_parser = clap::value_parser!(u32).range(1..=i64::from(MOST_MONTHS)))]
    months: u32,
    /// Write the picture into a file (SVG)
    #[arg(long, value_name = "FILE")]
    svg: Option<PathBuf>,
    /// Take the place of a file of that name, which is set aside
    #[arg(long, requires = "svg")]
    replace: bool,
    /// How the answer is printed
    #[arg(long, value_parser = Format::among(&["text", "json", "svg"]), default_value = "text", help_heading = "Everywhere")]
    format: Format,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = "show what ends when";
    let report = timeline(ctx, args.months).map_err(|error| Failure::of(attempt, &error))?;
    if let Some(file) = &args.svg {
        let attempt = format!("write the picture {}", file.display());
        let picture = crate::output::picture(&report);
        ninekeys_ops::page::write(ctx, file, &picture, args.replace)
            .map_err(|error| Failure::of(&attempt, &error))?;
    }
    out.emit_timeline(&report);
    Ok(Exit::Done)
}
