//! `ninekeys demo`

use std::path::{Path, PathBuf};
use std::process::Command;

use ninekeys_ops::Ctx;
use ninekeys_ops::demo::{STEPS, Step, prepare};

use crate::arguments::Global;
use crate::failure::{Exit, Failure};
use crate::output::{Line, Output, shell_words};

/// Run a full example in a fresh folder
///
/// Runs a full example in a fresh folder, on made-up builds of a made-up ferry company. Every step shows the
/// command that a person would type, and runs exactly those words.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The folder; it is made, and one that has anything in it is left alone
    #[arg(default_value = "ninekeys-demo")]
    folder: PathBuf,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, global: &Global, out: &mut Output) -> Result<Exit, Failure> {
    const ATTEMPT: &str = "run the demo";
    let folder = prepare(ctx, &args.folder).map_err(|error| Failure::of(ATTEMPT, &error))?;
    let program = std::env::current_exe().map_err(|error| {
        Failure::plain(Exit::Damaged, ATTEMPT, &format!("this program: {error}"))
            .say("start it by its whole path")
    })?;
    out.lines(&[Line::new()
        .text("Gannet Point Ferries, a made-up ferry company, makes its first signed release in ")
        .bold(args.folder.display().to_string())
        .text(".")]);
    for step in STEPS {
        announce(step, out);
        run_step(step, &program, &folder, global)?;
    }
    let folder = args.folder.display().to_string();
    out.lines(&[
        Line::new(),
        Line::new()
            .text("That was the whole way: ")
            .text(STEPS.len().to_string())
            .text(" commands, all as expected."),
        Line::new()
            .dim("  files")
            .to(10)
            .text(format!("{folder}/signed, {folder}/backups, {folder}/ninekeys.toml")),
        Line::new().dim("  next").to(10).typed(format!("cd {} && ninekeys", shell_words(&[folder]))),
        Line::new().to(10).typed("ninekeys show crossing-signing"),
        Line::new().to(10).typed("ninekeys explain build-debuggable"),
    ]);
    Ok(Exit::Done)
}

fn announce(step: &Step, out: &mut Output) {
    let mut lines = vec![Line::new()];
    if !step.about.is_empty() {
        lines.push(Line::new().text(step.about));
    }
    lines.push(Line::new().dim("$ ").command(step.words));
    out.lines(&lines);
}

/// Runs the words as a child, its output as it comes. What would point it at another cabinet is taken away.
fn run_step(step: &Step, program: &Path, folder: &Path, global: &Global) -> Result<(), Failure> {
    let words = shell_words(step.words);
    let attempt = format!("run the demo's step `ninekeys {words}`");
    let mut child = Command::new(program);
    child.args(step.words).current_dir(folder);
    for name in ["NINEKEYS_CABINET", "NINEKEYS_PROJECT", "NINEKEYS_UNLOCK_FILE", "NINEKEYS_PASSPHRASE"] {
        child.env_remove(name);
    }
    if let Some(at) = global.at {
        child.env("NINEKEYS_NOW", at.to_string());
    }
    let status = child.status().map_err(|e| Failure::plain(Exit::Damaged, &attempt, &e.to_string()))?;
    let found = status.code();
    if found == Some(i32::from(step.exit)) {
        return Ok(());
    }
    let found = found.map_or_else(|| "a signal".into(), |code| format!("exit code {code}"));
    let because = format!("it ended with {found}, not with exit code {}", step.exit);
    Err(Failure::plain(Exit::Defect, &attempt, &because))
}
