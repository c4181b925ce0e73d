//! `ninekeys keystore deposit`

use std::path::PathBuf;

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::keystore::import::FromFile;
use ninekeys_ops::store::keys::{DepositRequest, From, StoreKeysError, deposit};

use super::args::{PasswordArgs, key_passwords};
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Have the store hold an app's signing key from now on
///
/// The store signs what devices get, and takes builds that are signed with the app's upload key. The signing key goes there encrypted to
/// the store's key, and stays in the cabinet, or it comes out of a file; or the store makes one; or it is the one that the store holds
/// for another app. That cannot be taken back. Called again it says what the store holds. The project file keeps both certificates, so that checks
/// know them.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
#[command(group(clap::ArgGroup::new("own_password").requires("from")))]
pub(crate) struct Args {
    /// The app
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: String,
    /// The keystore with the signing key, when there are several
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::keystores))]
    key: Option<String>,
    /// The signing key is in this keystore file, and is not kept in the cabinet
    #[arg(long, value_name = "FILE", conflicts_with_all = ["key", "made_by_store", "key_of"])]
    from: Option<PathBuf>,
    /// Its alias in that file, when there are several
    #[arg(long, requires = "from")]
    alias: Option<String>,
    /// The store makes the signing key, and nobody else has it
    #[arg(long, conflicts_with_all = ["key", "key_of"])]
    made_by_store: bool,
    /// The signing key is the one that the store holds for this app
    #[arg(long, value_name = "APP", conflicts_with = "key", add = ArgValueCandidates::new(complete::apps))]
    key_of: Option<String>,
    /// The keystore with the upload key, when there are several
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::keystores))]
    upload: Option<String>,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
    #[command(flatten)]
    password: PasswordArgs,
    /// Read the key's own password from a file
    #[arg(long, value_name = "ALIAS=FILE", help_heading = "Password", requires = "from")]
    key_password_in: Vec<String>,
    /// Read the key's own password from an environment variable
    #[arg(long, value_name = "ALIAS=VARIABLE", help_heading = "Password", requires = "from")]
    key_password_variable: Vec<String>,
}

/// What a call may have changed that ended early.
pub(super) fn told(failure: Failure, error: &StoreKeysError) -> Failure {
    match error {
        StoreKeysError::Store(_) | StoreKeysError::Refused(_) | StoreKeysError::Connect(_) => {
            failure.changed("the history says that it was tried; the store's keys are as they were")
        }
        StoreKeysError::Unkept(_) => failure.changed("the store's keys, and the history"),
        StoreKeysError::OtherKey { .. } => failure.changed("the store holds a key for the app"),
        _ => failure,
    }
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("have the store hold the signing key of {}", args.app);
    let password = args.password.given(&attempt)?;
    let from = match (args.made_by_store, args.key_of, args.from) {
        (true, ..) => From::Store,
        (_, Some(app), _) => From::App(app),
        (_, _, Some(file)) => From::File(FromFile {
            file,
            alias: args.alias,
            password,
            key_passwords: key_passwords(&args.key_password_in, &args.key_password_variable, &attempt)?,
        }),
        (_, _, None) => From::Cabinet { keystore: args.key },
    };
    let app = args.app.clone();
    let request = DepositRequest { app: args.app, from, upload: args.upload, sure: args.yes };
    out.emit(
        &deposit(ctx, &request)
            .map_err(|error| told(Failure::of(&attempt, &error).naming("APP", &app), &error))?,
    );
    Ok(Exit::Done)
}
