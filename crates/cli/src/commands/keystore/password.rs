//! `ninekeys keystore password`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::keystore::password::{Password, keystore_password};
use schemars::JsonSchema;
use serde::Serialize;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::{Line, Output, Paper, Report};

/// Tell the password that is sealed with a keystore
///
/// Tells the password that is sealed with a keystore, on stdout, for a form that wants it typed. That it was told is written
/// into the history. A build command gets a password of its own by `lend`, and a file by `keystore export`.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The keystore
    #[arg(add = ArgValueCandidates::new(complete::keystores))]
    keystore: String,
}

/// The answer, which is the secret itself.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Told {
    keystore: String,
    password: String,
}

impl Report for Told {
    const SCHEMA: &'static str = "ninekeys.keystore-password/1";

    fn text(&self, paper: &mut Paper<'_>) -> std::io::Result<()> {
        // nothing beside it: it is to be copied, or read by a program
        paper.put(&Line::new().text(&self.password))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("tell the password of {}", args.keystore);
    let read = keystore_password(ctx, &args.keystore).map_err(|error| Failure::of(&attempt, &error))?;
    let Password { keystore, password } = read;
    password.lend(|text| {
        let mut told = Told { keystore, password: text.clone() };
        out.emit(&told);
        zeroize::Zeroize::zeroize(&mut told.password);
    });
    Ok(Exit::Done)
}
