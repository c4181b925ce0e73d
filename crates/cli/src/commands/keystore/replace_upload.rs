//! `ninekeys keystore replace-upload`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::store::keys::{ReplaceRequest, replace_upload};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Have the store take another upload key in the place of one that is lost
///
/// The new one counts after a time of waiting, in which whoever has the old one would notice. The signing key, and what is on
/// devices, stay as they are.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// The app
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: String,
    /// The keystore with the new upload key
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::keystores))]
    key: String,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("replace the upload key of {}", args.app);
    let app = args.app.clone();
    let request = ReplaceRequest { app: args.app, key: args.key, sure: args.yes };
    let report = replace_upload(ctx, &request);
    out.emit(
        &report.map_err(|error| {
            super::deposit::told(Failure::of(&attempt, &error).naming("APP", &app), &error)
        })?,
    );
    Ok(Exit::Done)
}
