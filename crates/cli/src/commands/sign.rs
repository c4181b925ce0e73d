//! `ninekeys sign`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use ninekeys_core::android::Schemes;
use ninekeys_core::model::{BuildNumber, Destination};
use ninekeys_ops::Ctx;
use ninekeys_ops::build::sign::{Request, Set, SignError, SignReport, sign};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::{Output, Signed, Single};

/// Sign a build for its destination
///
/// Signs a build for its destination and names it APP-VERSION-BUILD-DESTINATION. An APK gets the signature schemes v2 and
/// v3, and v1 where its devices need it; a bundle (AAB) gets v1. An app for iOS (an IPA, a .app zipped or as it is) gets
/// the profiles that fit, and everything in it is signed from the inside out with the identity that they name; what each
/// bundle claims is what its profile grants, narrowed to what it declares. The build stays as it is; the output is checked
/// before it gets its name. A part of a package (a split) has its own name in the output's, and is signed with the others.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// The builds: several at once, the parts of one package (splits) together
    #[arg(required = true, value_name = "BUILD")]
    builds: Vec<PathBuf>,
    /// Where it goes: direct, store, devices, in-house or development; the app's first destination when left out, the store
    /// for a bundle
    #[arg(long = "for", value_name = "DESTINATION", add = ArgValueCandidates::new(complete::destinations))]
    destination: Option<Destination>,
    /// The app it is, when its id does not say
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: Option<String>,
    /// The keystore or the identity to sign with, when there are several
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::keystores))]
    key: Option<String>,
    /// The folder that the output goes to; this one when left out
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    to: PathBuf,
    /// Take the place of an output of the same name, and of its release
    #[arg(long)]
    replace: bool,
    /// Sign with these schemes instead of those that the build's devices need: v1, v2, v3
    #[arg(long, value_name = "LIST")]
    schemes: Option<Schemes>,
    /// Write the tree of scheme v4 beside the output, as OUTPUT.idsig
    #[arg(long)]
    idsig: bool,
    /// Give the app this build number or version code, and what is inside it
    #[arg(long, value_name = "NUMBER")]
    set_build: Option<BuildNumber>,
    /// Give the app this version, and what is inside it; on iOS numbers with dots between
    #[arg(long, value_name = "VERSION")]
    set_version: Option<String>,
    /// Give the app this name below its icon (iOS)
    #[arg(long, value_name = "NAME")]
    set_title: Option<String>,
    /// Give the app this bundle id; those of what is inside it follow (iOS)
    #[arg(long, value_name = "ID")]
    set_bundle_id: Option<String>,
    /// A property list with what the app declares, instead of what stands in it and in the project file (iOS)
    #[arg(long, value_name = "FILE")]
    entitlements: Option<PathBuf>,
    /// Have a time put to each signature by the authority that `timestamps` in ninekeys.toml names (iOS); what is signed is
    /// then another each time
    #[arg(long)]
    timestamp: bool,
    /// Say why other identities and profiles were not taken, and of every entitlement why it is claimed or left out (iOS)
    #[arg(long)]
    explain: bool,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let purpose = args.destination.map_or_else(String::new, |d| format!(" for {}", d.phrase()));
    let names: Vec<String> = args.builds.iter().map(|build| build.display().to_string()).collect();
    let attempt = format!("sign {}{purpose}", names.join(", "));
    let request = Request {
        builds: args.builds,
        app: args.app,
        destination: args.destination,
        store: None,
        key: args.key,
        to: args.to,
        replace: args.replace,
        schemes: args.schemes,
        timestamp: args.timestamp,
        idsig: args.idsig,
        set: Set {
            id: args.set_bundle_id,
            title: args.set_title,
            version: args.set_version,
            build: args.set_build,
        },
        entitlements: args.entitlements,
    };
    let explain = args.explain;
    let reports = sign(ctx, &request).map_err(|error| {
        // what could not be signed alone is signed with the others
        let failure = match &error {
            SignError::Of(build, cause) if !matches!(**cause, SignError::Incomplete(_)) => {
                Failure::of(&attempt, &error).naming("BUILD", build)
            }
            _ => Failure::of(&attempt, &error).naming_all("BUILD", &names),
        };
        match error {
            SignError::Partly { done, .. } => failure.changed(&format!("{} got signed", done.join(", "))),
            _ => failure,
        }
    })?;
    match <[SignReport; 1]>::try_from(reports) {
        Ok([only]) => out.emit(&Single { report: only, explain }),
        Err(builds) => out.emit(&Signed { builds, explain }),
    }
    Ok(Exit::Done)
}
