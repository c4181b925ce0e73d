//! `ninekeys check`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use ninekeys_core::model::{BuildNumber, Destination};
use ninekeys_ops::Ctx;
use ninekeys_ops::build::check::{Request, check};
use ninekeys_ops::build::setup::{Request as SetupRequest, check_setups};

use crate::arguments::Format;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::{Outcome, Output, Verdicts};

/// Say everything that is wrong with a build, or not in place yet
///
/// Looks at builds (APK, AAB, IPA, a zipped .app, the .app itself) with every rule: the archive, its signatures and seals,
/// who signed it, its profiles and what it claims, and what it says of itself, compared with the project file and the last release. Works on a build alone as well. Several builds are checked at
/// once. With `--app` and no build it says whether everything is in place that an iOS build needs: identity, profiles,
/// what they allow. With `--all` it looks at every app and at the cabinet, for a nightly job. Ends with 1 when there is an
/// error.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// The builds
    #[arg(required_unless_present_any = ["app", "all"], value_name = "BUILD")]
    builds: Vec<PathBuf>,
    /// Every app of the project file, and the cabinet itself
    #[arg(long, conflicts_with_all = ["builds", "app", "destination", "above"])]
    all: bool,
    /// Where they go
    #[arg(long = "for", value_name = "DESTINATION", add = ArgValueCandidates::new(complete::destinations))]
    destination: Option<Destination>,
    /// The app they have to be, when they do not say; without a build, the app that is looked at
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: Option<String>,
    /// A version code or build number that they have to be above, whatever the ledger says
    #[arg(long, value_name = "NUMBER", requires = "builds")]
    above: Option<BuildNumber>,
    /// A device that it has to run on, by its name in the cabinet or its identifier
    #[arg(long, value_name = "DEVICE", requires = "builds")]
    device: Option<String>,
    /// Ask the store, too, what it has of the app: its builds, and the keys that it knows
    #[arg(long, requires = "builds")]
    ask_store: bool,
    /// Draw what is inside as a tree: app, extensions, libraries, profiles, identity and key, each with its state (iOS)
    #[arg(long, requires = "builds")]
    tree: bool,
    /// How the answer is printed
    #[arg(long, value_parser = Format::among(&["text", "json", "sarif", "junit"]), default_value = "text", help_heading = "Everywhere")]
    format: Format,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match args.app.clone().filter(|_| args.builds.is_empty()) {
        Some(app) => {
            let what = match args.destination {
                Some(to) => format!("check whether {app} is ready for {}", to.phrase()),
                None => format!("check what {app} needs"),
            };
            setups(&what, &SetupRequest::App { app, destination: args.destination }, ctx, out)
        }
        None if args.all => setups("check what is in place", &SetupRequest::All, ctx, out),
        None => builds(args, ctx, out),
    }
}

/// Looks at what is in place before there is a build.
fn setups(attempt: &str, request: &SetupRequest, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let report = check_setups(ctx, request).map_err(|error| Failure::of(attempt, &error))?;
    out.emit_setups(&report);
    Ok(if report.ready { Exit::Done } else { Exit::Findings })
}

fn builds(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let names: Vec<String> = args.builds.iter().map(|build| build.display().to_string()).collect();
    let attempt = format!("check {}", names.join(", "));
    let request = |build: &PathBuf| Request {
        build: build.clone(),
        destination: args.destination,
        app: args.app.clone(),
        above: args.above.clone(),
        device: args.device.clone(),
        ask_store: args.ask_store,
    };
    let requests: Vec<Request> = args.builds.iter().map(request).collect();
    let checked = check(ctx, &requests).map_err(|error| Failure::of(&attempt, &error))?;
    let mut verdicts = Vec::new();
    for one in checked {
        let attempt = format!("check {}", one.build.display());
        let build = one.build.display().to_string();
        let (check, error) = match one.outcome {
            Ok(check) => (Some(check), None),
            Err(error) => (None, Some(Failure::of(&attempt, &error))),
        };
        verdicts.push(Outcome { build, check, error, took: one.took });
    }
    // for people and as JSON one build that cannot be read is an error, as with every command; a report of tests has it in it
    if matches!(args.format, Format::Text | Format::Json)
        && let [Outcome { error: Some(_), .. }] = verdicts.as_slice()
        && let Some(failure) = verdicts.pop().and_then(|one| one.error)
    {
        return Err(failure);
    }
    let verdicts = Verdicts::new(verdicts, ctx.env.now, args.tree);
    out.emit_verdicts(&verdicts);
    Ok(verdicts.exit())
}
