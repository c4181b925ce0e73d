//! `ninekeys apikey token`

use clap_complete::engine::ArgValueCandidates;
use jiff::Timestamp;
use ninekeys_core::token::MOST_MINUTES;
use ninekeys_ops::Ctx;
use ninekeys_ops::apikey::token::{Request, apikey_token};
use schemars::JsonSchema;
use serde::Serialize;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::{Line, Output, Paper, Report};

/// Print a signed token, good for minutes
///
/// Prints a token (JWT) that is signed with the key: ES256 for a store API key, RS256 for a service key. Whoever has it may
/// do what the key may, until it ends.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The API key
    #[arg(add = ArgValueCandidates::new(complete::api_keys))]
    api_key: String,
    /// Whom it is for; the portal, or whoever a service account's file names, when left out
    #[arg(long)]
    audience: Option<String>,
    /// What it asks for; several times for several
    #[arg(long)]
    scope: Vec<String>,
    /// How many minutes it is good for, 20 at most
    #[arg(long, default_value_t = MOST_MINUTES)]
    minutes: u16,
}

/// The answer, which is the token itself.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Token {
    /// The API key that signed it.
    api_key: String,
    /// The token.
    token: String,
    /// Whom it is for.
    audience: String,
    /// Until when it is good.
    not_after: Timestamp,
}

impl Report for Token {
    const SCHEMA: &'static str = "ninekeys.apikey-token/1";

    fn text(&self, paper: &mut Paper<'_>) -> std::io::Result<()> {
        // nothing beside it, and no breaks: it is to be copied, or read by a program
        paper.put(&Line::new().typed(&self.token))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("make a token with {}", args.api_key);
    let request =
        Request { name: args.api_key, audience: args.audience, scope: args.scope, minutes: args.minutes };
    let made = apikey_token(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    let not_after = Timestamp::from_second(made.claims.exp).unwrap_or(Timestamp::MAX);
    made.token.lend(|token| {
        let mut told = Token {
            api_key: made.name.clone(),
            token: token.clone(),
            audience: made.claims.aud.clone(),
            not_after,
        };
        out.emit(&told);
        zeroize::Zeroize::zeroize(&mut told.token);
    });
    Ok(Exit::Done)
}
