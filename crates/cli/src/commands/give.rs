//! `ninekeys give`

use std::path::PathBuf;

use clap_complete::engine::ArgValueCandidates;
use ninekeys_core::model::Destination;
use ninekeys_ops::Ctx;
use ninekeys_ops::give::{Request, give};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Give an outside service what it needs to sign and upload an app, in one folder
///
/// Writes one folder for an app and a destination: the identity as PKCS#12 with its whole chain, the push identity where the app
/// takes notifications, the profiles, an API key if one is named, and a sheet that says what is what. The password of the
/// PKCS#12 files is made up, and written into a file that goes another way. Who was given what is kept: `ninekeys given`.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The app
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: String,
    /// Where its builds go
    #[arg(long = "for", value_name = "DESTINATION", add = ArgValueCandidates::new(complete::destinations))]
    destination: Destination,
    /// Who is given it
    #[arg(long, value_name = "NAME")]
    receiver: String,
    /// The folder, which is not there yet or empty
    #[arg(long, value_name = "FOLDER")]
    to: PathBuf,
    /// The API key that goes with it; none when nothing is said
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::api_keys))]
    api_key: Option<String>,
    /// The file for the password, outside the folder; beside it when nothing is said
    #[arg(long, value_name = "FILE")]
    note_password: Option<PathBuf>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt =
        format!("give {} what it needs for {} and {}", args.receiver, args.app, args.destination.phrase());
    let request = Request {
        app: args.app,
        destination: args.destination,
        receiver: args.receiver,
        to: args.to,
        api_key: args.api_key,
        password_to: args.note_password,
    };
    let report = give(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
