//! `ninekeys keystore export`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use clap::ValueEnum;
use ninekeys_ops::Ctx;
use ninekeys_ops::keystore::NewPassword;
use ninekeys_ops::keystore::export::{Form, Request, keystore_export};
use ninekeys_ops::keystore::settings::SettingsRequest;

use super::args::PasswordArgs;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// What a keystore becomes.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum As {
    /// PKCS#12 with the private keys, under a password
    Pkcs12,
    /// The certificate alone, PEM
    CertificatePem,
    /// The certificate alone, DER
    CertificateDer,
}

/// Write a PKCS#12 file, or a certificate alone
///
/// Writes a keystore into a PKCS#12 file that Java and other programs read, or a certificate alone, as a store asks
/// for it. The file has the password that is sealed in the cabinet, unless you bring another.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The keystore
    #[arg(add = ArgValueCandidates::new(complete::keystores))]
    keystore: String,
    /// The file
    #[arg(long, value_name = "FILE")]
    to: PathBuf,
    /// What the file is
    #[arg(long = "as", value_enum, default_value = "pkcs12")]
    form: As,
    /// Only the key with this alias; several times for several
    #[arg(long, add = ArgValueCandidates::new(complete::aliases))]
    alias: Vec<String>,
    /// Take the place of files that are there
    #[arg(long)]
    replace: bool,
    /// Write the password into a file that only you can read
    #[arg(long, value_name = "FILE", help_heading = "Password")]
    note_password: Option<PathBuf>,
    /// Write a properties file for builds that sign by themselves; it stays until you delete it
    #[arg(long, value_name = "FILE", help_heading = "Settings of a build")]
    properties: Option<PathBuf>,
    /// The app whose names the properties file uses, if the key is for several
    #[arg(long, requires = "properties", help_heading = "Settings of a build", add = ArgValueCandidates::new(complete::apps))]
    app: Option<String>,
    /// Make up a password for this file
    #[arg(long, help_heading = "Password", conflicts_with = "own_password")]
    random_password: bool,
    #[command(flatten)]
    password: PasswordArgs,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("export {} to {}", args.keystore, args.to.display());
    let chosen = args.password.chosen(&attempt)?;
    let request = Request {
        name: args.keystore,
        aliases: args.alias,
        to: args.to,
        form: match args.form {
            As::Pkcs12 => Form::Pkcs12,
            As::CertificatePem => Form::CertificatePem,
            As::CertificateDer => Form::CertificateDer,
        },
        password: if args.random_password { Some(NewPassword::Generated) } else { chosen },
        password_to: args.note_password,
        properties: args.properties.map(|file| SettingsRequest { file, app: args.app }),
        replace: args.replace,
    };
    let keystore = request.name.clone();
    let report = keystore_export(ctx, request)
        .map_err(|error| Failure::of(&attempt, &error).naming("KEYSTORE", &keystore))?;
    out.emit(&report);
    Ok(Exit::Done)
}
