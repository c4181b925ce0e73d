//! `ninekeys keystore hand-over`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::keystore::hand_over::{Request, keystore_hand_over};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Encrypt a private key to a store's public key
///
/// Encrypts a private key to a store's public key, so that the store can hold it and nobody on the way can read it.
/// The message is CMS EnvelopedData with the key as PKCS#8 in it.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The keystore
    #[arg(add = ArgValueCandidates::new(complete::keystores))]
    keystore: String,
    /// The key that is meant, when the keystore has several
    #[arg(long, add = ArgValueCandidates::new(complete::aliases))]
    alias: Option<String>,
    /// The store's certificate or public key, PEM or DER
    #[arg(long, value_name = "FILE")]
    receiver: PathBuf,
    /// The file; PEM when its name ends in .pem, else DER
    #[arg(long, value_name = "FILE")]
    to: PathBuf,
    /// Take the place of a file that is there
    #[arg(long)]
    replace: bool,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("hand {} over", args.keystore);
    let request = Request {
        name: args.keystore,
        alias: args.alias,
        receiver: args.receiver,
        to: args.to,
        replace: args.replace,
    };
    let report = keystore_hand_over(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
