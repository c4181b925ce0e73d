//! `ninekeys completions`

use std::io;

use clap::builder::PossibleValuesParser;
use schemars::JsonSchema;
use serde::Serialize;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::{Line, Output, Paper, Report};

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

/// The completions for a shell.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct CompletionsReport {
    /// The shell.
    shell: String,
    /// What it has to read.
    script: String,
}

impl Report for CompletionsReport {
    const SCHEMA: &'static str = "ninekeys.completions/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        self.script.lines().try_for_each(|line| paper.put(&Line::new().text(line)))
    }
}

pub(crate) fn run(args: &Args, out: &mut Output) -> Result<Exit, Failure> {
    let script = complete::script(&args.shell).map_err(|error| {
        Failure::plain(Exit::Defect, &format!("complete in {}", args.shell), &error.to_string())
    })?;
    let script = String::from_utf8_lossy(&script).into_owned();
    let report = CompletionsReport { shell: args.shell.clone(), script };
    out.tell(&report, &report.script);
    Ok(Exit::Done)
}
