//! `ninekeys identity accept`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::identity::accept::{Request, identity_accept};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Take in issued certificates; each finds its private key by itself
///
/// Takes in certificates as the portal issues them (DER, PEM, or a PKCS#7 bundle). Each finds the private key that it is
/// for; nobody says which. What it is for stands in the certificate, and so does the team. A certificate whose key is not
/// here is kept and never signed with.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The files
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    /// A file with the certificates above them; several times for several
    #[arg(long, value_name = "FILE")]
    chain: Vec<PathBuf>,
    /// What a new identity is called; after its kind and year when left out
    #[arg(long)]
    name: Option<String>,
    /// The app they are for, from the project file; several times for several apps
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    app: Vec<String>,
    /// Who keeps the private key, where it is somebody else
    #[arg(long, value_name = "WHO")]
    held_by: Option<String>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let names: Vec<String> = args.files.iter().map(|file| file.display().to_string()).collect();
    let attempt = format!("accept {}", names.join(", "));
    let request = Request {
        files: args.files,
        chain: args.chain,
        name: args.name,
        apps: args.app,
        held_by: args.held_by,
    };
    let report = identity_accept(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
