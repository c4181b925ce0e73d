//! `ninekeys help`

use std::io;

use clap::CommandFactory;
use schemars::JsonSchema;
use serde::Serialize;

use crate::arguments::Cli;
use crate::failure::{Exit, Failure};
use crate::output::{Line, Output, Paper, Report};

/// Show the help of a command
///
/// Shows the help of a command: `ninekeys help keystore create`.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The words of the command
    #[arg(value_name = "WORD")]
    words: Vec<String>,
}

/// The help of a command.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct HelpReport {
    /// The words of the command; none for the program itself.
    command: Vec<String>,
    /// What it says, as people read it.
    text: String,
}

impl Report for HelpReport {
    const SCHEMA: &'static str = "ninekeys.help/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        self.text.lines().try_for_each(|line| paper.put(&Line::new().text(line)))
    }
}

pub(crate) fn run(args: &Args, out: &mut Output) -> Result<Exit, Failure> {
    let mut root = Cli::command();
    root.build();
    let mut command = &mut root;
    for (at, word) in args.words.iter().enumerate() {
        let place = args.words.get(..at).unwrap_or_default();
        command = command.find_subcommand_mut(word).ok_or_else(|| {
            let because = match place {
                [] => format!("there is no command {word}"),
                words => format!("{} has no command {word}", words.join(" ")),
            };
            let next = std::iter::once("help").chain(place.iter().map(String::as_str));
            Failure::plain(Exit::Usage, &format!("help with {}", args.words.join(" ")), &because).next(next)
        })?;
    }
    let help = command.render_long_help();
    let report = HelpReport { command: args.words.clone(), text: help.to_string() };
    out.tell(&report, &help.ansi().to_string());
    Ok(Exit::Done)
}
