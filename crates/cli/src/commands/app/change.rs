//! `ninekeys app change`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::app::change::{AppChangeError, app_change};

use super::args::AppArgs;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Change title, ids, version or destinations of an app
///
/// Changes what the project file says of an app and keeps everything else in it, comments included.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// The app
    #[arg(add = ArgValueCandidates::new(complete::apps))]
    app: String,
    #[command(flatten)]
    says: AppArgs,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("change the app {}", args.app);
    let app = args.app.clone();
    let request = args.says.request(args.app);
    let request = request.map_err(|lacks| Failure::plain(Exit::Usage, &attempt, &lacks))?;
    let report = app_change(ctx, &request).map_err(|error| {
        let failure = Failure::of(&attempt, &error).naming("APP", &app);
        match error {
            AppChangeError::Publish(_) => {
                failure.changed("at most the project file; the store does not know the app")
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
