//! `ninekeys keystore import`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::keystore::import::{Request, keystore_import};

use super::args::{KeyKind, PasswordArgs, key_passwords};
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Take the keys out of a PKCS#12 or JKS file
///
/// Takes the keys out of a keystore file and seals them in the cabinet. PKCS#12 (also in its old encryption) and JKS
/// are told by their content. The file stays as it is.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The file
    file: PathBuf,
    /// What it is called in the cabinet; after the file when left out
    #[arg(long)]
    name: Option<String>,
    /// Only the key with this alias; several times for several
    #[arg(long)]
    alias: Vec<String>,
    /// What the keys are for
    #[arg(long, value_enum, default_value = "signing")]
    kind: KeyKind,
    /// The app they are for, from the project file; several times for several apps
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    app: Vec<String>,
    #[command(flatten)]
    password: PasswordArgs,
    /// Read a key's own password from a file
    #[arg(long, value_name = "ALIAS=FILE", help_heading = "Password")]
    key_password_in: Vec<String>,
    /// Read a key's own password from an environment variable
    #[arg(long, value_name = "ALIAS=VARIABLE", help_heading = "Password")]
    key_password_variable: Vec<String>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("import {}", args.file.display());
    let request = Request {
        password: args.password.given(&attempt)?,
        key_passwords: key_passwords(&args.key_password_in, &args.key_password_variable, &attempt)?,
        file: args.file,
        name: args.name,
        aliases: args.alias,
        role: args.kind.into(),
        apps: args.app,
    };
    let report = keystore_import(ctx, request);
    let report = report.map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
