//! `ninekeys keystore change`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::keystore::NewPassword;
use ninekeys_ops::keystore::change::{Request, keystore_change};

use super::args::{KeyKind, PasswordArgs};
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Change names, aliases, apps or the password; the keys stay the same
///
/// Changes what a keystore or one of its keys is called, which apps a key is for, what it is for, or the password.
/// The keys stay the same keys: what they signed stays signed by them.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The keystore
    #[arg(add = ArgValueCandidates::new(complete::keystores))]
    keystore: String,
    /// The key that is meant, when the keystore has several
    #[arg(long, add = ArgValueCandidates::new(complete::aliases))]
    alias: Option<String>,
    /// The keystore's new name
    #[arg(long, value_name = "NAME")]
    new_name: Option<String>,
    /// The key's new alias
    #[arg(long, value_name = "ALIAS")]
    new_alias: Option<String>,
    /// What the key is for from now on
    #[arg(long, value_enum)]
    kind: Option<KeyKind>,
    /// An app that the key is for as well
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    add_app: Vec<String>,
    /// An app that the key is not for any more
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    drop_app: Vec<String>,
    /// Make up a new password for the keystore
    #[arg(long, help_heading = "Password", conflicts_with = "own_password")]
    random_password: bool,
    #[command(flatten)]
    password: PasswordArgs,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("change the keystore {}", args.keystore);
    let chosen = args.password.chosen(&attempt)?;
    let request = Request {
        name: args.keystore,
        alias: args.alias,
        new_name: args.new_name,
        new_alias: args.new_alias,
        role: args.kind.map(Into::into),
        add_apps: args.add_app,
        drop_apps: args.drop_app,
        password: if args.random_password { Some(NewPassword::Generated) } else { chosen },
    };
    let report = keystore_change(ctx, request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
