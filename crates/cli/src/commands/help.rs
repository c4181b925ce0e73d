//! `ninekeys help`

use clap::CommandFactory;

use crate::arguments::Cli;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Show the help of a command
///
/// Shows the help of a command: `ninekeys help keystore create`.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The words of the command
    #[arg(value_name = "WORD")]
    words: Vec<String>,
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
    out.print(&help.ansi().to_string());
    Ok(Exit::Done)
}
