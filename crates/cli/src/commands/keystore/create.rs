//! `ninekeys keystore create`

use ninekeys_ops::Ctx;
use ninekeys_ops::keystore::NewPassword;
use ninekeys_ops::keystore::create::{Request, keystore_create};

use super::args::{KeyArgs, PasswordArgs};
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Make a keystore with its first key
///
/// Makes a private key, a certificate for it, and a keystore that holds both. At least one of the subject's
/// fields is needed. The password is made up and sealed in the cabinet, unless you bring one.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The keystore's name
    name: String,
    #[command(flatten)]
    key: KeyArgs,
    #[command(flatten)]
    password: PasswordArgs,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("create the keystore {}", args.name);
    let password = args.password.chosen(&attempt)?.unwrap_or(NewPassword::Generated);
    let request = Request { name: args.name, key: args.key.into(), password };
    let report = keystore_create(ctx, request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
