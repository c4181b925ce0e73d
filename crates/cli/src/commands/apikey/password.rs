//! `ninekeys apikey password`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::apikey::password::{Password, apikey_password};
use schemars::JsonSchema;
use serde::Serialize;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::{Line, Output, Paper, Report};

/// Tell an account's upload password
///
/// Tells the upload password that was sealed with a label, on stdout, for a program that wants it typed. That it was told is
/// written into the history.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The upload password
    #[arg(add = ArgValueCandidates::new(complete::api_keys))]
    api_key: String,
}

/// The answer, which is the secret itself.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ToldUpload {
    api_key: String,
    account: String,
    label: String,
    password: String,
}

impl Report for ToldUpload {
    const SCHEMA: &'static str = "ninekeys.apikey-password/1";

    fn text(&self, paper: &mut Paper<'_>) -> std::io::Result<()> {
        // nothing beside it: it is to be copied, or read by a program
        paper.put(&Line::new().text(&self.password))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("tell the upload password {}", args.api_key);
    let read = apikey_password(ctx, &args.api_key).map_err(|error| Failure::of(&attempt, &error))?;
    let Password { api_key, account, label, password } = read;
    password.lend(|text| {
        let mut told = ToldUpload { api_key, account, label, password: text.clone() };
        out.emit(&told);
        zeroize::Zeroize::zeroize(&mut told.password);
    });
    Ok(Exit::Done)
}
