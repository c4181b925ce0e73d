//! `ninekeys identity request`

use clap_complete::engine::ArgValueCandidates;
use std::path::PathBuf;

use clap::ValueEnum;
use ninekeys_core::certificate::Subject;
use ninekeys_core::keys::Algorithm;
use ninekeys_core::model::PushEnvironment;
use ninekeys_ops::Ctx;
use ninekeys_ops::identity::Kind;
use ninekeys_ops::identity::request::{Foreign, IdentityRequestError, Request, identity_request};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// What an identity is for.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum KindWord {
    /// Runs builds on registered devices
    Development,
    /// Signs for registered devices and for the store
    Distribution,
    /// Sends notifications
    Push,
}

/// The servers that a push identity reaches.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum Servers {
    /// Those that development builds listen to
    Sandbox,
    /// Those that all other builds listen to
    Production,
}

/// Make a key, seal it, and write the request for its certificate
///
/// Makes a key pair, seals the private key in the cabinet, and writes the request for a certificate (PKCS#10) that is
/// uploaded at the portal. Called again, it writes the same request again. The certificate that comes back is taken in
/// with `ninekeys identity accept`.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// What the identity is called
    name: String,
    /// What it is for
    #[arg(long, value_enum)]
    kind: Option<KindWord>,
    /// Which servers a push identity reaches
    #[arg(long, value_enum, default_value = "production")]
    environment: Servers,
    /// The app it is for, from the project file; several times for several apps
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    app: Vec<String>,
    /// Where the request goes: PEM, or DER when the name ends in .der; NAME.csr when left out
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// Take the place of a file that is there
    #[arg(long)]
    replace: bool,
    /// rsa-2048, rsa-3072, rsa-4096, ec-p256 or ec-p384
    #[arg(long, default_value = "rsa-2048", conflicts_with = "key_of")]
    algorithm: Algorithm,
    /// Use the key of this identity again
    #[arg(long, value_name = "IDENTITY", add = ArgValueCandidates::new(complete::identities))]
    key_of: Option<String>,
    /// Subject: who asks (CN); the project's title when left out
    #[arg(long, help_heading = "Subject")]
    common_name: Option<String>,
    /// Subject: an address for mail; the account's of the project file when left out
    #[arg(long, help_heading = "Subject")]
    email: Option<String>,
    /// Subject: country, two letters (C)
    #[arg(long, help_heading = "Subject")]
    country: Option<String>,
    /// Take in a request that somebody else made, who keeps the key
    #[arg(
        long,
        value_name = "FILE",
        requires = "held_by",
        conflicts_with_all = ["to", "key_of", "algorithm", "common_name", "email", "country"],
        help_heading = "A key held by somebody else"
    )]
    from: Option<PathBuf>,
    /// Who keeps the key: a build service, a colleague
    #[arg(long, value_name = "WHO", requires = "from", help_heading = "A key held by somebody else")]
    held_by: Option<String>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("request the identity {}", args.name);
    let name = args.name.clone();
    let request = Request {
        name: args.name,
        kind: args.kind.map(|kind| match kind {
            KindWord::Development => Kind::Development,
            KindWord::Distribution => Kind::Distribution,
            KindWord::Push => Kind::Push,
        }),
        environment: match args.environment {
            Servers::Sandbox => PushEnvironment::Sandbox,
            Servers::Production => PushEnvironment::Production,
        },
        apps: args.app,
        subject: Subject {
            common_name: args.common_name,
            email: args.email,
            country: args.country,
            ..Subject::default()
        },
        algorithm: args.algorithm,
        key_of: args.key_of,
        to: args.to,
        from: args.from.zip(args.held_by).map(|(file, held_by)| Foreign { file, held_by }),
        replace: args.replace,
    };
    let report = identity_request(ctx, request).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        match error {
            IdentityRequestError::NotWritten(_) => failure
                .changed(&format!("{name} is in the cabinet, its key sealed; only the file is missing"))
                .next(["identity", "request", &name, "--to", "FILE"]),
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
