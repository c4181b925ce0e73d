//! `ninekeys init`

use std::path::PathBuf;

use ninekeys_cabinet::Credential;
use ninekeys_ops::Ctx;
use ninekeys_ops::init::{InitError, Request, init};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Make a cabinet and a project file in this folder
///
/// Makes an empty cabinet and a project file in this folder. The passphrase is asked for twice, unless a file,
/// a descriptor or `NINEKEYS_PASSPHRASE` gives it.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// What the board is headed with; the folder's name when left out
    #[arg(long)]
    title: Option<String>,
    /// The team id of the iOS side
    #[arg(long)]
    team: Option<String>,
    /// Where the portal is, if it has an API
    #[arg(long, value_name = "ADDRESS")]
    portal: Option<String>,
    /// A file with the certificate that a portal at https:// has to show
    #[arg(long, value_name = "FILE", requires = "portal")]
    portal_certificate: Option<PathBuf>,
    /// A file with the certificate that what the portal signs has to lead to; several times for several
    #[arg(long = "root", value_name = "FILE")]
    roots: Vec<PathBuf>,
    /// Write a file that unlocks the cabinet at once, for machines
    #[arg(long, value_name = "FILE")]
    new_unlock_file: Option<PathBuf>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    const ATTEMPT: &str = "make a cabinet here";
    let given = ctx.ask.given().map_err(|error| Failure::of(ATTEMPT, &error))?;
    let passphrase = match given {
        Some(Credential::Passphrase(text)) => Some(text),
        _ => None,
    };
    let request = Request {
        title: args.title,
        team: args.team,
        portal: args.portal,
        portal_certificate: args.portal_certificate,
        roots: args.roots,
        passphrase,
        unlock_file: args.new_unlock_file,
    };
    let report = init(ctx, request).map_err(|error| {
        let failure = Failure::of(ATTEMPT, &error);
        match &error {
            InitError::Unnamed { cabinet, .. } => failure
                .changed(&format!("{cabinet} was made, with what unlocks it; the project file was not")),
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
