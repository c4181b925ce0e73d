//! `ninekeys completions`

use clap::builder::PossibleValuesParser;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Print the completions for a shell
///
/// Prints the script that completes commands, options and values: names of apps, keystores, aliases and items out of the
/// project that the shell is in, rules, destinations. To be read when a shell starts: in bash and zsh by
/// `source <(ninekeys completions SHELL)`, in fish by `ninekeys completions fish | source`.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The shell
    #[arg(value_parser = PossibleValuesParser::new(complete::shells()))]
    shell: String,
}

pub(crate) fn run(args: &Args, out: &mut Output) -> Result<Exit, Failure> {
    let script = complete::script(&args.shell).map_err(|error| {
        Failure::plain(Exit::Defect, &format!("complete in {}", args.shell), &error.to_string())
    })?;
    out.print(&String::from_utf8_lossy(&script));
    Ok(Exit::Done)
}
