//! `ninekeys apikey ask`

use ninekeys_core::model::{ApiRole, ApiUse};
use ninekeys_ops::Ctx;
use ninekeys_ops::apikey::ask::{Request, apikey_ask};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Write down that access was asked for, and of whom
///
/// Writes down access that somebody has to grant before there is a key: what it is for, who was asked, and when. The board says
/// so until `apikey import` or `apikey create` brings it in under that name.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// What the key will be called
    name: String,
    /// Who has to grant it
    #[arg(long, value_name = "PERSON")]
    of: String,
    /// What it has to be able to do: reader, developer, manager or owner; the smallest that does when left out
    #[arg(long)]
    role: Option<ApiRole>,
    /// What it will be used for: reports, uploads, testers, signing or access; several times for several
    #[arg(long = "use", value_name = "USE")]
    uses: Vec<ApiUse>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("write down that {} was asked for", args.name);
    let request = Request { name: args.name, asked_of: args.of, role: args.role, uses: args.uses };
    let report = apikey_ask(ctx, request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
