//! `ninekeys identity import`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::identity::import::{Request, identity_import};

use crate::commands::keystore::args::PasswordArgs;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Take identities out of a PKCS#12 file, keys and chain together
///
/// Takes the identities out of a PKCS#12 file (also in its old encryption), as a colleague's machine writes it: one or
/// several, each with its private key and the certificates above it. The file stays as it is.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The file
    file: PathBuf,
    /// What a new identity is called; after its kind and year when left out
    #[arg(long)]
    name: Option<String>,
    /// The app they are for, from the project file; several times for several apps
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    app: Vec<String>,
    #[command(flatten)]
    password: PasswordArgs,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("import {}", args.file.display());
    let request = Request {
        password: args.password.given(&attempt)?,
        file: args.file,
        name: args.name,
        apps: args.app,
    };
    let report = identity_import(ctx, request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
