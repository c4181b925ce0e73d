//! `ninekeys`: arguments, prompts, marks and colours, progress, exit codes. It decides nothing: every command
//! turns its arguments into a request, calls a use case, and prints the report.

mod arguments;
mod clock;
mod commands;
mod failure;
mod output;
mod progress;
mod prompt;

use std::io::Write;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use clap::Parser;
use ninekeys_core::env::Env;
use ninekeys_core::keys::SystemKeys;
use ninekeys_ops::Ctx;

use arguments::{Cli, Global};
use failure::{Exit, Failure};
use output::Output;
use progress::Bar;
use prompt::Terminal;

fn main() -> ExitCode {
    std::panic::set_hook(Box::new(report_defect));
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
            // help and version go to stdout and are no error; everything else is usage
            let usage = error.use_stderr();
            let _ = error.print();
            return if usage { Exit::Usage.into() } else { Exit::Done.into() };
        }
    };
    let mut output = Output::new(&cli.global);
    let exit = run(cli, &mut output).unwrap_or_else(|failure| output.failure(&failure));
    output.finish(exit).into()
}

fn run(cli: Cli, output: &mut Output) -> Result<Exit, Failure> {
    let Cli { global, command } = cli;
    let stop = Arc::new(AtomicBool::new(false));
    let bar = Bar::new(Arc::clone(&stop), global.quiet);
    let keys = SystemKeys;
    let now = match global.at {
        Some(at) => at,
        None => clock::now(),
    };
    let env = Env { now, keys: &keys, progress: &bar, stop: &stop };
    let ask = Terminal::new(&global);
    // what a lender left that was killed
    ninekeys_ops::lend::sweep(&commands::lend::folders());
    let ctx = context(env, &ask, &global)?;
    commands::run(command, &ctx, &global, output)
}

fn context<'a>(env: Env<'a>, ask: &'a Terminal, global: &Global) -> Result<Ctx<'a>, Failure> {
    let folder = std::env::current_dir()
        .map_err(|error| Failure::plain(Exit::Damaged, "start", &format!("the folder: {error}")))?;
    Ok(Ctx { env, folder, project: global.project.clone(), cabinet: global.cabinet.clone(), ask })
}

/// A defect of the tool: said as such, without a trace that nobody asked for.
fn report_defect(info: &std::panic::PanicHookInfo<'_>) {
    let place = info.location().map(|at| format!("{}:{}", at.file(), at.line())).unwrap_or_default();
    let mut stderr = anstream::stderr();
    let _ = writeln!(stderr, "ninekeys: this is a defect of the tool, not of your input");
    let _ = writeln!(stderr, "  where     {place}, version {}", env!("CARGO_PKG_VERSION"));
    let _ = writeln!(stderr, "  changed   nothing that bears its final name");
    std::process::exit(i32::from(Exit::Defect.code()));
}
