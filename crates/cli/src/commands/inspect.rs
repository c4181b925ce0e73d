//! `ninekeys inspect`

use std::path::PathBuf;

use ninekeys_ops::Ctx;
use ninekeys_ops::inspect::inspect;

use super::keystore::args::PasswordArgs;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Tell what is in a build, a certificate or an item
///
/// Tells what is in a build (APK, AAB), an executable (Mach-O), a keystore (PKCS#12, JKS), a certificate, a certificate request, a key, a key that
/// was handed over (PEM, DER), a cabinet or an item of the cabinet, by its content. A keystore shows without its password what stands in it in clear.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Files, or names of items
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    #[command(flatten)]
    password: PasswordArgs,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    for file in &args.files {
        let attempt = format!("inspect {}", file.display());
        let password = args.password.given_or_asked(ctx.ask, &file.display().to_string(), &attempt)?;
        let report = inspect(ctx, file, password.as_ref()).map_err(|error| Failure::of(&attempt, &error))?;
        out.emit(&report);
    }
    Ok(Exit::Done)
}
