//! `ninekeys`: arguments, prompts, marks and colours, progress, exit codes. It decides nothing: every command
//! turns its arguments into a request, calls a use case, and prints the report.

mod arguments;
mod clock;
mod commands;
mod complete;
mod credentials;
mod failure;
mod machine;
mod output;
mod progress;
mod prompt;
mod store;
mod usage;

use std::cell::RefCell;
use std::panic::AssertUnwindSafe;
use std::process::ExitCode;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use clap::{CommandFactory, FromArgMatches};
use ninekeys_core::env::Env;
use ninekeys_core::keys::SystemKeys;
use ninekeys_ops::Ctx;
use ninekeys_ops::memory::MachineMemory;

use arguments::{Cli, Global};
use credentials::System;
use failure::{Exit, Failure};
use output::Output;
use progress::Bar;
use prompt::Terminal;

fn main() -> ExitCode {
    // noted here and told below, when what has to be taken back was taken back
    std::panic::set_hook(Box::new(note_defect));
    complete::answer_a_shell();
    let typed: Vec<String> =
        std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
    let parsed = Cli::command().try_get_matches();
    let parsed = parsed.and_then(|found| Ok((Cli::from_arg_matches(&found)?, store::typed(&found))));
    let (cli, store) = match parsed {
        Ok(parsed) => parsed,
        Err(error) if error.use_stderr() => {
            return Output::of_words(&typed).failure(&usage::failure(&error, &typed)).into();
        }
        Err(error) => {
            // help and version go to stdout and are no error
            let _ = error.print();
            return Exit::Done.into();
        }
    };
    failure::keep_typed(typed);
    store::keep(store.clone());
    let mut output = Output::new(&cli.global);
    let ran = std::panic::catch_unwind(AssertUnwindSafe(|| run(cli, store, &mut output)));
    let exit = match ran {
        Ok(done) => done.unwrap_or_else(|failure| output.failure(&failure)),
        Err(_) => output.failure(&defect()),
    };
    output.finish(exit).into()
}

fn run(cli: Cli, store: Option<String>, output: &mut Output) -> Result<Exit, Failure> {
    let Cli { global, command } = cli;
    let stop = Arc::new(AtomicBool::new(false));
    let bar = Bar::new(Arc::clone(&stop), global.quiet);
    let keys = SystemKeys;
    let now = match global.at {
        Some(at) => at,
        None => clock::now(),
    };
    let scratch = ninekeys_ops::TemporarySpace::default();
    let env = Env { now, keys: &keys, progress: &bar, scratch: &scratch, stop: &stop };
    let ask = Terminal::new(&global);
    // what commands left that were killed
    let machine = MachineMemory::new(machine::state_folder(), machine::name());
    ninekeys_ops::build::lend::sweep(&commands::lend::folders());
    ninekeys_ops::sweep_outgoing(&machine);
    let begun = Instant::now();
    let fixed = global.at.is_some();
    let running = || if fixed { Duration::ZERO } else { begun.elapsed() };
    let ctx = Ctx { store, ..context(env, &ask, &machine, &running, &global)? };
    let done = commands::run(command, &ctx, &global, output);
    output.notices(&ctx);
    done
}

fn context<'a>(
    env: Env<'a>,
    ask: &'a Terminal,
    machine: &'a MachineMemory,
    running: &'a (dyn Fn() -> Duration + Sync),
    global: &Global,
) -> Result<Ctx<'a>, Failure> {
    let folder = std::env::current_dir().map_err(|error| {
        let because = format!("the folder that it was started in cannot be used: {error}");
        Failure::plain(Exit::Damaged, "start", &because).say("go into a folder that is there")
    })?;
    Ok(Ctx {
        env,
        folder,
        project: global.project.clone(),
        cabinet: global.cabinet.clone(),
        store: None,
        ask,
        machine,
        credentials: &System,
        running,
        notices: RefCell::default(),
    })
}

/// Where a defect showed itself first.
static DEFECT: OnceLock<String> = OnceLock::new();

fn note_defect(info: &std::panic::PanicHookInfo<'_>) {
    let place = info.location().map(|at| format!("{}:{}", at.file(), at.line())).unwrap_or_default();
    let _ = DEFECT.set(place);
}

/// A defect of the tool: said as such, without a trace that nobody asked for.
fn defect() -> Failure {
    let place = DEFECT.get().map_or("an unknown place", String::as_str);
    let because = format!(
        "of a defect of the tool, not of your input, at {place}, version {}",
        env!("CARGO_PKG_VERSION")
    );
    Failure::plain(Exit::Defect, "go on", &because)
        .changed("nothing that bears its final name")
        .say("tell the makers of this tool, with what you typed and what it said")
}
