//! `ninekeys lend`

use clap_complete::engine::ArgValueCandidates;
use std::ffi::OsString;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use ninekeys_core::model::{Destination, Platform};
use ninekeys_ops::Ctx;
use ninekeys_ops::build::lend::{ExplainRequest, LendError, Request, lend, lend_explain, put_through};

use crate::arguments::Global;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Variables that unlock the cabinet: a command that borrows a key has no business with them.
const HIDDEN: [&str; 2] = ["NINEKEYS_PASSPHRASE", "NINEKEYS_UNLOCK_FILE"];

/// Run a build command with a key on loan, gone afterwards
///
/// Runs a build command with an app's key on loan: a file (PKCS#12) in a private folder and a password that is good for
/// this one loan, in environment variables. For Android that is a keystore: NINEKEYS_LENT_KEYSTORE, _ALIAS, _PASSWORD and
/// _KEY_PASSWORD. For iOS it is an identity with its whole chain, and the profiles: NINEKEYS_LENT_IDENTITY, _PASSWORD,
/// _CHAIN, _CERTIFICATE, _TEAM, _PROFILES and _PROFILE. [app.NAME.lend] in ninekeys.toml gives other names, a folder that
/// profiles are looked for in, and commands that are run before and after with the same variables. All of it is gone when
/// the command ends. The exit code is the command's.
#[derive(Debug, clap::Args)]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// The app whose key is lent
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: String,
    /// The platform that is built for, when the app has both: android or ios
    #[arg(long, value_name = "PLATFORM", value_parser = platform)]
    platform: Option<Platform>,
    /// Where its build goes: the store's gets the upload key, if there is one
    #[arg(long = "for", value_name = "DESTINATION", add = ArgValueCandidates::new(complete::destinations))]
    destination: Option<Destination>,
    /// The keystore or the identity, when there are several
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(complete::keystores))]
    key: Option<String>,
    /// Write a properties file as well; NINEKEYS_LENT_PROPERTIES is its path
    #[arg(long)]
    properties: bool,
    /// Say in NINEKEYS_NEXT_VERSION and NINEKEYS_NEXT_BUILD which version and number the next build should have, as `app next` does
    #[arg(long)]
    next: bool,
    /// Mask the passwords in what the command says
    #[arg(long)]
    mask: bool,
    /// Say what the build's settings have to read, and lend nothing
    #[arg(long, conflicts_with_all = ["mask", "properties", "next", "command"])]
    explain: bool,
    /// The command, behind two dashes
    #[arg(required_unless_present = "explain", last = true, value_name = "COMMAND")]
    command: Vec<OsString>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, global: &Global, out: &mut Output) -> Result<Exit, Failure> {
    if args.explain {
        let attempt = format!("explain what {} would be lent", args.app);
        let request = ExplainRequest {
            app: args.app,
            platform: args.platform,
            destination: args.destination,
            key: args.key,
        };
        out.emit(&lend_explain(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?);
        return Ok(Exit::Done);
    }
    let attempt = format!("lend the key of {}", args.app);
    if global.passphrase_on.is_some() {
        let because = "the command would inherit the descriptor with the passphrase";
        let failure = Failure::plain(Exit::Usage, &attempt, because);
        return Err(
            failure.say("give the passphrase in another way: --passphrase-in FILE, or an unlock file")
        );
    }
    let came = listen();
    let request = Request {
        app: args.app,
        platform: args.platform,
        destination: args.destination,
        key: args.key,
        properties: args.properties,
        next: args.next,
        mask: args.mask,
        command: args.command,
        folders: folders(),
        hidden: &HIDDEN,
        signal: &|| i32::try_from(came.swap(0, Ordering::Relaxed)).ok().filter(|signal| *signal != 0),
        outputs: (&|bytes: &[u8]| put_through(stdout(), bytes), &|bytes: &[u8]| put_through(stderr(), bytes)),
    };
    let code = lend(ctx, &request).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        match error {
            LendError::NotStarted { .. } => failure.changed("nothing but the history, which has the attempt"),
            LendError::Before { .. } => failure.changed("whatever that command did, and the history"),
            LendError::After { build, .. } => {
                let failure = failure.changed("whatever the build and that command did, and the history");
                if build == 0 { failure } else { failure.ending(Exit::Child(build)) }
            }
            _ => failure,
        }
    })?;
    Ok(Exit::Child(code))
}

fn platform(word: &str) -> Result<Platform, String> {
    match word {
        "android" => Ok(Platform::Android),
        "ios" => Ok(Platform::Ios),
        _ => Err("a platform is android or ios".into()),
    }
}

/// Notes the signals that would end this program: they go on to the command, and the loan is taken back after it.
fn listen() -> Arc<AtomicUsize> {
    let came = Arc::new(AtomicUsize::new(0));
    #[cfg(unix)]
    for signal in [
        signal_hook::consts::SIGINT,
        signal_hook::consts::SIGTERM,
        signal_hook::consts::SIGHUP,
        signal_hook::consts::SIGQUIT,
        signal_hook::consts::SIGUSR1,
        signal_hook::consts::SIGUSR2,
        signal_hook::consts::SIGALRM,
    ] {
        // without a handler the system ends this program, and the next start takes the loan back
        let number = usize::try_from(signal).unwrap_or(0);
        let _ = signal_hook::flag::register_usize(signal, Arc::clone(&came), number);
    }
    came
}

/// Where a private folder may be: in memory, where the system has such a place.
#[expect(clippy::disallowed_methods, reason = "the session's own folder is named by the environment")]
pub(crate) fn folders() -> Vec<PathBuf> {
    let own = std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from);
    own.into_iter().chain([PathBuf::from("/dev/shm"), std::env::temp_dir()]).collect()
}

#[expect(clippy::disallowed_methods, reason = "what another program says goes through as it is")]
fn stdout() -> impl std::io::Write {
    std::io::stdout()
}

#[expect(clippy::disallowed_methods, reason = "what another program says goes through as it is")]
fn stderr() -> impl std::io::Write {
    std::io::stderr()
}
