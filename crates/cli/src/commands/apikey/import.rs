//! `ninekeys apikey import`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use ninekeys_core::model::{ApiRole, ApiUse};
use ninekeys_ops::Ctx;
use ninekeys_ops::apikey::import::{Request, apikey_import};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Seal a store API key or a service key
///
/// Seals the private key that makes tokens: a store API key as the portal gives it out once (PEM), or a service account's
/// file (JSON), which says its ids itself. With a label it seals an account's upload password. What was waited for under that
/// name (`apikey ask`) is what came. The file stays as it is.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// The file
    file: PathBuf,
    /// What it is called
    #[arg(long)]
    name: String,
    /// The key id that its tokens name; a service account's file says it
    #[arg(long, value_name = "ID")]
    key_id: Option<String>,
    /// The issuer id that its tokens name; a service account's file says it
    #[arg(long, value_name = "ID")]
    issuer: Option<String>,
    /// What it may do: reader, developer, manager or owner
    #[arg(long)]
    role: Option<ApiRole>,
    /// What it is used for: reports, uploads, testers, signing or access; several times for several
    #[arg(long = "use", value_name = "USE")]
    uses: Vec<ApiUse>,
    /// The app it is for, from the project file; several times for several apps
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    app: Vec<String>,
    /// The number by which sales reports know the account
    #[arg(long, value_name = "NUMBER")]
    vendor_number: Option<String>,
    /// The file holds an account's upload password: what the portal calls it
    #[arg(long, value_name = "TEXT", requires = "account", conflicts_with_all = ["key_id", "issuer"])]
    label: Option<String>,
    /// The account that an upload password is of
    #[arg(long, value_name = "ADDRESS", requires = "label")]
    account: Option<String>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("import {}", args.file.display());
    let request = Request {
        file: args.file,
        name: args.name,
        key_id: args.key_id,
        issuer: args.issuer.or(args.account),
        role: args.role,
        uses: args.uses,
        apps: args.app,
        vendor_number: args.vendor_number,
        label: args.label,
    };
    let report = apikey_import(ctx, request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
