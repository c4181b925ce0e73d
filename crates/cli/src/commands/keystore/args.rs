//! What several commands on keystores take: a key to be made, and a password.

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use clap::ValueEnum;
use ninekeys_core::certificate::{Subject, USUAL_YEARS};
use ninekeys_core::keys::Algorithm;
use ninekeys_core::model::Role;
use ninekeys_formats::secret::SecretText;
use ninekeys_ops::Ask;
use ninekeys_ops::keystore::NewPassword;
use ninekeys_ops::keystore::create::KeyRequest;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::prompt::Given;

/// What a key is for.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum KeyKind {
    /// The app's identity on devices
    Signing,
    /// Proves to the store who uploads
    Upload,
}

impl From<KeyKind> for Role {
    fn from(kind: KeyKind) -> Self {
        match kind {
            KeyKind::Signing => Role::Signing,
            KeyKind::Upload => Role::Upload,
        }
    }
}

/// A key to be made.
#[derive(Debug, clap::Args)]
pub(crate) struct KeyArgs {
    /// The app it is for, from the project file; several times for several apps
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    app: Vec<String>,
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
}

impl From<KeyArgs> for KeyRequest {
    fn from(args: KeyArgs) -> Self {
        KeyRequest {
            apps: args.app,
            role: args.kind.into(),
            alias: args.alias,
            algorithm: args.algorithm,
            subject: Subject {
                common_name: args.common_name,
                unit: args.unit,
                organisation: args.organisation,
                locality: args.locality,
                state: args.state,
                country: args.country,
                email: None,
            },
            years: args.years,
            insist: args.insist,
        }
    }
}

/// The password of a keystore, or of a file with keys.
#[derive(Debug, clap::Args)]
pub(crate) struct PasswordArgs {
    /// Ask for the password
    #[arg(long, help_heading = "Password", group = "own_password")]
    ask_password: bool,
    /// Read the password from a file
    #[arg(long, value_name = "FILE", help_heading = "Password", group = "own_password")]
    password_in: Option<PathBuf>,
    /// Read the password from an open file descriptor
    #[arg(long, value_name = "NUMBER", help_heading = "Password", group = "own_password")]
    password_on: Option<u32>,
    /// Read the password from an environment variable
    #[arg(long, value_name = "VARIABLE", help_heading = "Password", group = "own_password")]
    password_variable: Option<String>,
}

impl PasswordArgs {
    /// A password that exists, if one was given.
    pub(crate) fn given(&self, attempt: &str) -> Result<Option<SecretText>, Failure> {
        let given = Given {
            file: self.password_in.as_ref(),
            descriptor: self.password_on,
            variable: self.password_variable.as_deref(),
        };
        match (given.read().map_err(|error| Failure::of(attempt, &error))?, &self.password_variable) {
            (Some(text), _) => Ok(Some(text)),
            (None, Some(name)) => Err(not_set(name, attempt)),
            (None, None) => Ok(None),
        }
    }

    /// A password that exists: given, or asked for where the user said so.
    pub(crate) fn given_or_asked(
        &self,
        ask: &dyn Ask,
        of: &str,
        attempt: &str,
    ) -> Result<Option<SecretText>, Failure> {
        if !self.ask_password {
            return self.given(attempt);
        }
        let asked = ask.secret(&format!("Password of {of}"));
        match asked.map_err(|error| Failure::plain(Exit::Usage, attempt, &error.to_string()).again(&[]))? {
            Some(password) => Ok(Some(password)),
            None => {
                let because = "there is no terminal to ask for the password on";
                let remedy = "say where the password is: --password-in FILE, in the place of --ask-password";
                Err(Failure::plain(Exit::Locked, attempt, because).say(remedy))
            }
        }
    }

    /// A new password, if one is to be had in another way than by making it up.
    pub(crate) fn chosen(&self, attempt: &str) -> Result<Option<NewPassword>, Failure> {
        if self.ask_password {
            return Ok(Some(NewPassword::Asked));
        }
        Ok(self.given(attempt)?.map(NewPassword::Given))
    }
}

fn not_set(name: &str, attempt: &str) -> Failure {
    Failure::plain(Exit::Usage, attempt, &format!("the variable {name} is not set"))
        .say("set that variable, or say where the password is in another way")
}

/// Passwords of keys, given as `ALIAS=FILE` and `ALIAS=VARIABLE`.
pub(crate) fn key_passwords(
    files: &[String],
    variables: &[String],
    attempt: &str,
) -> Result<Vec<(String, SecretText)>, Failure> {
    let mut out = Vec::new();
    let split = |text: &str| -> Result<(String, String), Failure> {
        let parts = text.split_once('=').map(|(alias, place)| (alias.to_owned(), place.to_owned()));
        let because = format!("`{text}` is not of the form ALIAS=PLACE");
        parts.ok_or_else(|| {
            Failure::plain(Exit::Usage, attempt, &because)
                .say("write the alias, an equals sign, and the place")
        })
    };
    for text in files {
        let (alias, file) = split(text)?;
        let file = PathBuf::from(file);
        let given = Given { file: Some(&file), ..Given::default() };
        let read = given.read().map_err(|error| Failure::of(attempt, &error))?;
        out.extend(read.map(|password| (alias, password)));
    }
    for text in variables {
        let (alias, name) = split(text)?;
        let given = Given { variable: Some(&name), ..Given::default() };
        let read = given.read().map_err(|error| Failure::of(attempt, &error))?;
        out.push((alias, read.ok_or_else(|| not_set(&name, attempt))?));
    }
    Ok(out)
}
