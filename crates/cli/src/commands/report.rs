//! `ninekeys report`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::report::report;

use crate::failure::{Exit, Failure};
use crate::output::{Output, ReportWritten, page};

/// Write one page with everything that there is to see
///
/// The board, what ends when, what hangs on what, what `check --all` finds, and the ledger, as one HTML file that needs nothing from
/// elsewhere: to be read, sent and printed. No passphrase is needed, and nothing secret is in it.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The file
    #[arg(long, value_name = "FILE", default_value = "report.html")]
    to: PathBuf,
    /// Take the place of a file of that name, which is set aside
    #[arg(long)]
    replace: bool,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("write the page {}", args.to.display());
    let report = report(ctx).map_err(|error| Failure::of(&attempt, &error))?;
    ninekeys_ops::page::write(ctx, &args.to, &page(&report), args.replace)
        .map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&ReportWritten::new(args.to.display().to_string(), report));
    Ok(Exit::Done)
}
