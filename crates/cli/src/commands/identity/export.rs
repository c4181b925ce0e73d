//! `ninekeys identity export`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use clap::ValueEnum;
use ninekeys_ops::Ctx;
use ninekeys_ops::identity::export::{Request, identity_export};
use ninekeys_ops::keystore::NewPassword;
use ninekeys_ops::keystore::export::Form;

use crate::commands::keystore::args::PasswordArgs;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// What an identity becomes.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum As {
    /// PKCS#12 with key and full chain, under a password
    Pkcs12,
    /// The certificate and those above it, PEM
    CertificatePem,
    /// The certificate alone, DER
    CertificateDer,
}

/// Write a PKCS#12 file with key and full chain, or the certificate
///
/// Writes an identity into a PKCS#12 file for a build program that wants it: the private key, its certificate, and every
/// certificate above it.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The identity
    #[arg(add = ArgValueCandidates::new(complete::identities))]
    identity: String,
    /// The file
    #[arg(long, value_name = "FILE")]
    to: PathBuf,
    /// What the file is
    #[arg(long = "as", value_enum, default_value = "pkcs12")]
    form: As,
    /// Take the place of files that are there
    #[arg(long)]
    replace: bool,
    /// Make up a password for this file
    #[arg(long, help_heading = "Password", conflicts_with = "own_password")]
    random_password: bool,
    /// Write the password into a file that only you can read
    #[arg(long, value_name = "FILE", help_heading = "Password")]
    note_password: Option<PathBuf>,
    #[command(flatten)]
    password: PasswordArgs,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("export {} to {}", args.identity, args.to.display());
    let chosen = args.password.chosen(&attempt)?.unwrap_or(NewPassword::Asked);
    let request = Request {
        name: args.identity,
        to: args.to,
        form: match args.form {
            As::Pkcs12 => Form::Pkcs12,
            As::CertificatePem => Form::CertificatePem,
            As::CertificateDer => Form::CertificateDer,
        },
        password: if args.random_password { NewPassword::Generated } else { chosen },
        password_to: args.note_password,
        replace: args.replace,
    };
    let report = identity_export(ctx, request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
