//! `ninekeys app add`

use ninekeys_ops::Ctx;
use ninekeys_ops::app::add::{AppAddError, app_add};

use super::args::AppArgs;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Write an app into the project file
///
/// Writes an app into the project file and keeps what stands there, comments included.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// Its name in commands and file names
    name: String,
    #[command(flatten)]
    says: AppArgs,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("add the app {}", args.name);
    let name = args.name.clone();
    let request = args.says.request(args.name);
    let request = request.map_err(|lacks| Failure::plain(Exit::Usage, &attempt, &lacks))?;
    let report = app_add(ctx, request).map_err(|error| {
        let failure = Failure::of(&attempt, &error).naming("APP", &name);
        match error {
            AppAddError::Publish(_) => {
                failure.changed(&format!("{name} is in the project file, and the store does not know it"))
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
