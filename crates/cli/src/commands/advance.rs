//! `ninekeys advance`

use std::path::PathBuf;

use clap::ValueEnum;
use jiff::Timestamp;
use ninekeys_ops::Ctx;
use ninekeys_ops::store::advance::{AdvanceError, Request, To, WhatsNew, advance};

use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Where a build goes.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum Word {
    /// To testers
    Testing,
    /// To everyone, by way of a review
    Everyone,
}

/// Have a build at the store go on: to testers, or to everyone
///
/// The very bytes that are at the store go on. A file is compared with them by its hash; a name, a number or the id that the store
/// gave is looked up there. Before everyone gets a build, people at the store look at it: what they have to know stands in
/// [app.NAME.review] of ninekeys.toml, and is shown before it is sent again. A build goes live as soon as they have seen it, or on a
/// day; to all, or to a share, which a later call raises and --hold stops.
#[derive(Debug, clap::Args)]
#[command(group(clap::ArgGroup::new("where").required(true).args(["to", "hold"])))]
#[command(arg(crate::store::option()))]
pub(crate) struct Args {
    /// The build: a file, the name that it had, its number, or its id at the store
    build: String,
    /// Where it goes
    #[arg(long, value_enum)]
    to: Option<Word>,
    /// Give it to nobody else who does not have it yet
    #[arg(long)]
    hold: bool,
    /// Testing: a group that gets it; several times for several, those inside the company when none is named
    #[arg(long, value_name = "GROUP", conflicts_with = "hold")]
    group: Vec<String>,
    /// Everyone: what is new in this version, for those who use the app
    #[arg(long, value_name = "TEXT", conflicts_with = "hold")]
    new: Option<String>,
    /// Everyone: a file with that
    #[arg(long, value_name = "FILE", conflicts_with_all = ["hold", "new"])]
    new_in: Option<PathBuf>,
    /// Everyone: not before this day or time
    #[arg(long, value_name = "TIME", value_parser = crate::clock::parse, conflicts_with = "hold")]
    on: Option<Timestamp>,
    /// Everyone: so many of a hundred people first
    #[arg(long, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(1..=100), conflicts_with = "hold")]
    share: Option<u8>,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let Args { build, to, hold, group, new, new_in, on, share, yes } = args;
    let words = match to {
        _ if hold => "be held",
        Some(Word::Testing) | None => "go to testers",
        Some(Word::Everyone) => "go to everyone",
    };
    let attempt = format!("have {build} {words}");
    let usage = |text: &str| Failure::plain(Exit::Usage, &attempt, text);
    let to = match to {
        Some(Word::Testing) => {
            if new.is_some() || new_in.is_some() || on.is_some() || share.is_some() {
                return Err(usage("--new, --new-in, --on and --share belong to `--to everyone`"));
            }
            To::Testing { groups: group }
        }
        Some(Word::Everyone) => {
            if !group.is_empty() {
                return Err(usage("--group belongs to `--to testing`"));
            }
            To::Everyone { whats_new: new.map(WhatsNew::Text).or(new_in.map(WhatsNew::In)), on, share }
        }
        None => To::Nobody,
    };
    let request = Request { build, to, sure: yes };
    let report = advance(ctx, &request).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        match error {
            AdvanceError::Store(_) | AdvanceError::Refused(_) => {
                failure.changed("the history says that it was tried; the build is where it was")
            }
            AdvanceError::OtherBytes(_) => failure.changed("whatever the store did, and the history"),
            AdvanceError::Ask(_) => {
                failure.changed("at most the project file, which keeps what was answered")
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
