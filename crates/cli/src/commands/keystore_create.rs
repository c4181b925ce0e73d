//! `ninekeys keystore create`

use std::path::PathBuf;

use clap::ValueEnum;
use ninekeys_core::certificate::{Subject, USUAL_YEARS};
use ninekeys_core::keys::Algorithm;
use ninekeys_core::model::Role;
use ninekeys_ops::Ctx;
use ninekeys_ops::keystore_create::{NewPassword, Request, keystore_create};

use crate::failure::{Exit, Failure};
use crate::output::Output;
use crate::prompt::Given;

/// What a key is for.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum KeyKind {
    /// The app's identity on devices
    Signing,
    /// Proves to the store who uploads
    Upload,
}

/// Makes a private key, a certificate for it, and a keystore that holds both. At least one of the subject's
/// fields is needed. The password is made up and sealed in the cabinet, unless you bring one.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The keystore's name
    name: String,
    /// The app it is for, from the project file
    #[arg(long)]
    app: Option<String>,
    /// What the key is for
    #[arg(long, value_enum, default_value = "signing")]
    kind: KeyKind,
    /// The key's name in exported keystores; the keystore's name when left out
    #[arg(long)]
    alias: Option<String>,
    /// rsa-2048, rsa-3072, rsa-4096, ec-p256 or ec-p384
    #[arg(long, default_value = "rsa-3072")]
    algorithm: Algorithm,
    /// How many years the certificate is valid
    #[arg(long, default_value_t = USUAL_YEARS)]
    years: u16,
    /// Take a validity that is too short for a signing key
    #[arg(long)]
    insist: bool,
    /// Subject: who it is for (CN)
    #[arg(long, help_heading = "Subject")]
    common_name: Option<String>,
    /// Subject: a part of the organisation (OU)
    #[arg(long, help_heading = "Subject")]
    unit: Option<String>,
    /// Subject: the organisation (O)
    #[arg(long, help_heading = "Subject")]
    organisation: Option<String>,
    /// Subject: city or place (L)
    #[arg(long, help_heading = "Subject")]
    locality: Option<String>,
    /// Subject: state or region (ST)
    #[arg(long, help_heading = "Subject")]
    state: Option<String>,
    /// Subject: country, two letters (C)
    #[arg(long, help_heading = "Subject")]
    country: Option<String>,
    /// Ask for the keystore's password, twice
    #[arg(long, help_heading = "Password", group = "own_password")]
    ask_password: bool,
    /// Read the keystore's password from a file
    #[arg(long, value_name = "FILE", help_heading = "Password", group = "own_password")]
    password_file: Option<PathBuf>,
    /// Read the keystore's password from an open file descriptor
    #[arg(long, value_name = "NUMBER", help_heading = "Password", group = "own_password")]
    password_fd: Option<u32>,
    /// Read the keystore's password from an environment variable
    #[arg(long, value_name = "VARIABLE", help_heading = "Password", group = "own_password")]
    password_env: Option<String>,
}

impl Args {
    fn password(&self, attempt: &str) -> Result<NewPassword, Failure> {
        if self.ask_password {
            return Ok(NewPassword::Asked);
        }
        let given = Given {
            file: self.password_file.as_ref(),
            descriptor: self.password_fd,
            variable: self.password_env.as_deref(),
        };
        match (given.read().map_err(|error| Failure::of(attempt, &error))?, &self.password_env) {
            (Some(text), _) => Ok(NewPassword::Given(text)),
            (None, Some(name)) => {
                Err(Failure::plain(Exit::Usage, attempt, &format!("the variable {name} is not set")))
            }
            (None, None) => Ok(NewPassword::Generated),
        }
    }
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("create the keystore {}", args.name);
    let password = args.password(&attempt)?;
    let request = Request {
        name: args.name,
        app: args.app,
        role: match args.kind {
            KeyKind::Signing => Role::Signing,
            KeyKind::Upload => Role::Upload,
        },
        alias: args.alias,
        algorithm: args.algorithm,
        subject: Subject {
            common_name: args.common_name,
            unit: args.unit,
            organisation: args.organisation,
            locality: args.locality,
            state: args.state,
            country: args.country,
        },
        years: args.years,
        insist: args.insist,
        password,
    };
    let report = keystore_create(ctx, request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
