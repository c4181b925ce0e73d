//! `ninekeys completions`

use clap::CommandFactory;
use clap_complete::{Shell, generate};

use crate::arguments::Cli;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Print the completions for a shell
///
/// Prints the completions for a shell, to be written where that shell looks for them.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// bash, elvish, fish, powershell or zsh
    shell: Shell,
}

pub(crate) fn run(args: &Args, out: &mut Output) -> Result<Exit, Failure> {
    let mut text = Vec::new();
    generate(args.shell, &mut Cli::command(), "ninekeys", &mut text);
    out.print(&String::from_utf8_lossy(&text));
    Ok(Exit::Done)
}
