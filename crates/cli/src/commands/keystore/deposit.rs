//! `ninekeys keystore deposit`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::store::keys::{DepositRequest, From, StoreKeysError, deposit};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Have the store hold an app's signing key from now on
///
/// The store signs what devices get, and takes builds that are signed with the app's upload key. The signing key goes there encrypted to
/// the store's key, and stays in the cabinet; or the store makes one; or it is the one that the store holds for another app. That
/// cannot be taken back. Called again it says what the store holds. The project file keeps both certificates, so that checks
/// know them.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The app
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: String,
    /// The keystore with the signing key, when there are several
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::keystores))]
    key: Option<String>,
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
    let from = match (args.made_by_store, args.key_of) {
        (true, _) => From::Store,
        (false, Some(app)) => From::App(app),
        (false, None) => From::Cabinet { keystore: args.key },
    };
    let app = args.app.clone();
    let request = DepositRequest { app: args.app, from, upload: args.upload, sure: args.yes };
    out.emit(
        &deposit(ctx, &request)
            .map_err(|error| told(Failure::of(&attempt, &error).naming("APP", &app), &error))?,
    );
    Ok(Exit::Done)
}
