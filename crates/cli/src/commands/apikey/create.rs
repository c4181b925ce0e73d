//! `ninekeys apikey create`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_core::model::{ApiRole, ApiUse};
use ninekeys_ops::Ctx;
use ninekeys_ops::apikey::create::{ApiKeyCreateError, Request, apikey_create};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Have a store API key made by the portal, and seal it
///
/// Has a store API key made by the portal. Its private key can be fetched once: it is sealed before anything else happens. Access
/// that was asked for under that name (`apikey ask`) has come with it.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// What it is called
    name: String,
    /// What it is used for: reports, uploads, testers, signing or access; several times for several
    #[arg(long = "use", value_name = "USE")]
    uses: Vec<ApiUse>,
    /// What it may do: reader, developer, manager or owner; the smallest that its uses need when left out
    #[arg(long)]
    role: Option<ApiRole>,
    /// The app it is for, from the project file: whoever signs for that app alone can ask with it; several times for several
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    app: Vec<String>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("have the API key {} made", args.name);
    let request = Request { name: args.name, uses: args.uses, role: args.role, apps: args.app };
    let report = apikey_create(ctx, &request).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        match &error {
            ApiKeyCreateError::HalfWay { key_id, .. } => failure.changed(&format!(
                "the portal has the API key {key_id}, and the cabinet does not; the same command again goes on from there"
            )),
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
