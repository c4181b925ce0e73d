//! `ninekeys compare`

use ninekeys_ops::Ctx;
use ninekeys_ops::compare::compare;

use super::keystore::args::PasswordArgs;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Tell whether two things carry the same key, and what is other in a build
///
/// Tells whether two things carry the same key or the same certificate: keystores, certificates, signed builds, items
/// of the cabinet. By fingerprint; a name says nothing. Ends with 1 unless the certificate is the same, or the key where
/// there is no certificate to compare. Of two builds it says what is other in the second, too: what is asked for and
/// claimed, the systems that it runs on, signers, profiles, sizes by folder.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// A file, or the name of an item
    one: String,
    /// What it is compared with
    other: String,
    #[command(flatten)]
    password: PasswordArgs,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("compare {} with {}", args.one, args.other);
    let what = format!("{} or {}", args.one, args.other);
    let password = args.password.given_or_asked(ctx.ask, &what, &attempt)?;
    let report = compare(ctx, &args.one, &args.other, password.as_ref());
    let failed = |error| Failure::of(&attempt, &error).naming("A", &args.one).naming("B", &args.other);
    let report = report.map_err(failed)?;
    out.emit(&report);
    Ok(if report.is_same() { Exit::Done } else { Exit::Findings })
}
