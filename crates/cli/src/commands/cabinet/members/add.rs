//! `ninekeys cabinet members add`

use std::path::PathBuf;

use clap::ValueEnum;
use clap_complete::engine::ArgValueCandidates;
use ninekeys_ops::Ctx;
use ninekeys_ops::cabinet::issue::IssueError;
use ninekeys_ops::cabinet::members::add::{May, MemberAddError, Request, member_add};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// What a member may do.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum Word {
    /// Everything, members included
    Everything,
    /// Sign and lend for the apps that are named
    Sign,
    /// Look
    Look,
}

/// Add a colleague or a machine, with a key of its own
///
/// Writes an unlock file that opens the cabinet for the new member. Who may sign gets the keys of the apps that are named and of
/// nothing else: what other apps have stays closed, by encryption and not by the tool. What several apps share (the identity of a
/// team, for one) needs --shared.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// What the member is called
    name: String,
    /// What it may do
    #[arg(long, value_enum)]
    may: Word,
    /// An app that it signs for, from the project file; several times for several
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    app: Vec<String>,
    /// It also opens what several apps share, and what is for none by itself
    #[arg(long)]
    shared: bool,
    /// It may also write keys out
    #[arg(long)]
    exports: bool,
    /// The unlock file that is written for it
    #[arg(long, value_name = "FILE")]
    to: PathBuf,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("add {} to the members", args.name);
    let may = match args.may {
        Word::Everything => May::Everything,
        Word::Sign => May::Sign { apps: args.app, shared: args.shared, exports: args.exports },
        Word::Look => May::Look,
    };
    let request = Request { label: args.name, may, to: args.to };
    let report = member_add(ctx, &request).map_err(|error| {
        let failure = Failure::of(&attempt, &error);
        match &error {
            MemberAddError::Issue(IssueError::Unnamed { member, .. }) => {
                failure.changed(&format!("{member} is a member now, and opens with a file that is not there"))
            }
            _ => failure,
        }
    })?;
    out.emit(&report);
    Ok(Exit::Done)
}
