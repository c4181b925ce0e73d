//! `ninekeys demo`

use std::io;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use jiff::{SignedDuration, Timestamp};
use ninekeys_ops::demo::{
    DAYS_LATER, LATER, LATER_STEPS, LOG, STEPS, Step, YEAR_LATER, copy_for_later, prepare,
};
use ninekeys_ops::files::{self, Access, Taken};
use ninekeys_ops::{Ctx, FileError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::arguments::{Format, Global};
use crate::failure::{Exit, Failure};
use crate::output::{Line, Output, Paper, Report, shell_words};

/// Run a full example in a fresh folder
///
/// Runs a full example in a fresh folder, on made-up builds of a made-up ferry company. Every step shows the command that a
/// person would type, runs exactly those words, and shows the first line of the answer; the folder `log` has all of it.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The folder; it is made, and one that has anything in it is left alone
    #[arg(default_value = "ninekeys-demo")]
    folder: PathBuf,
    /// Print every answer whole
    #[arg(long)]
    whole: bool,
}

/// What was run.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DemoReport {
    /// The folder.
    folder: String,
    /// The steps, in order.
    steps: Vec<Ran>,
    /// Where what stood in for the portal listened; it is stopped.
    portal: String,
}

/// A step that was run.
#[derive(Debug, Serialize, JsonSchema)]
struct Ran {
    /// What it shows.
    about: &'static str,
    /// The words behind the program's name.
    command: Vec<String>,
    /// Its exit code.
    exit: u8,
    /// The first line of its answer.
    first_line: String,
    /// The file with all of its answer.
    log: String,
}

impl Report for DemoReport {
    const SCHEMA: &'static str = "ninekeys.demo/1";

    /// What is said behind the steps, which were told as they went.
    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let folder = &self.folder;
        paper.blank()?;
        let many = self.steps.len();
        paper.put(&Line::new().text(format!("That was the whole way: {many} commands, all as expected.")))?;
        let files = format!(
            "{folder}/signed, {folder}/backups, {folder}/{YEAR_LATER}, {folder}/{LOG}, {folder}/ninekeys.toml"
        );
        paper.put(&Line::new().dim("  files").to(10).text(files).hang(10))?;
        let go = format!("cd {} && ninekeys", shell_words(&[folder]));
        paper.put(&Line::new().dim("  next").to(10).typed(go))?;
        paper.put(&Line::new().to(10).typed("ninekeys show crossing-signing"))?;
        let listen = self.portal.trim_start_matches("http://");
        let serve = format!("ninekeys stand-in serve --folder portal --listen {listen}");
        paper.put(&Line::new().to(10).typed(serve))?;
        paper.put(&Line::new().to(10).typed("ninekeys explain build-debuggable"))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, global: &Global, out: &mut Output) -> Result<Exit, Failure> {
    const ATTEMPT: &str = "run the demo";
    let folder = prepare(ctx, &args.folder).map_err(|error| Failure::of(ATTEMPT, &error))?;
    let program = std::env::current_exe().map_err(|error| {
        Failure::plain(Exit::Damaged, ATTEMPT, &format!("this program: {error}"))
            .say("start it by its whole path")
    })?;
    let told = global.format == Format::Text;
    if told {
        out.lines(&[Line::new()
            .text("Gannet Point Ferries, a made-up ferry company, makes its first signed release in ")
            .bold(args.folder.display().to_string())
            .text(".")]);
    }
    let now = Place { program: &program, folder: folder.clone(), at: global.at, later: false };
    let portal = Portal::start(&now, &[])?;
    let mut steps = Vec::new();
    for step in STEPS {
        let words = portal.filled(step);
        one_step((step, words), &now, &folder, args, (told, &mut *out), &mut steps)?;
    }
    let address = portal.known.first().cloned().unwrap_or_default();
    drop(portal);
    let later = copy_for_later(&folder).map_err(|error| Failure::of(ATTEMPT, &error))?;
    let at = ctx.env.now.checked_add(SignedDuration::from_hours(24 * DAYS_LATER)).unwrap_or(ctx.env.now);
    let later = Place { program: &program, folder: later, at: Some(at), later: true };
    let listen = address.trim_start_matches("http://").to_owned();
    let portal = Portal::start(&later, &["--listen", &listen])?;
    for step in LATER_STEPS {
        let words = portal.filled(step);
        one_step((step, words), &later, &folder, args, (told, &mut *out), &mut steps)?;
    }
    drop(portal);
    out.emit(&DemoReport { folder: args.folder.display().to_string(), steps, portal: address });
    Ok(Exit::Done)
}

/// Runs a step, keeps all that it said, and shows the beginning.
fn one_step(
    (step, words): (&Step, Vec<String>),
    place: &Place<'_>,
    folder: &Path,
    args: &Args,
    (told, out): (bool, &mut Output),
    steps: &mut Vec<Ran>,
) -> Result<(), Failure> {
    if told {
        announce(step, &words, out);
    }
    let said = run_step(step, &words, place)?;
    let log = Path::new(LOG).join(format!("{:02}-{}.txt", steps.len() + 1, name(step)));
    write(&folder.join(&log), &words, &said).map_err(|error| Failure::of("run the demo", &error))?;
    let first_line = said.lines().find(|line| !line.trim().is_empty()).unwrap_or_default().to_owned();
    if told {
        // a refusal is short, and what it says to type is the point of it
        let is_refusal = step.exit == Exit::Refused.code();
        let shown = if args.whole || is_refusal { said.as_str() } else { &first_line };
        out.lines(&shown.lines().map(|line| Line::new().text(line)).collect::<Vec<_>>());
    }
    let log = log.display().to_string();
    steps.push(Ran { about: step.about, command: words, exit: step.exit, first_line, log });
    Ok(())
}

/// Where steps are run, and when.
struct Place<'a> {
    program: &'a Path,
    folder: PathBuf,
    at: Option<Timestamp>,
    /// Whether it is a copy that goes on a year later: this machine's memory must not take it for the cabinet of today.
    later: bool,
}

fn announce(step: &Step, words: &[String], out: &mut Output) {
    let mut lines = vec![Line::new()];
    if !step.about.is_empty() {
        lines.push(Line::new().text(step.about));
    }
    lines.push(Line::new().dim("$ ").command(words));
    out.lines(&lines);
}

/// A step as a file's name: the words of its command.
fn name(step: &Step) -> String {
    let words = step.words.iter().take(2).take_while(|word| !word.starts_with('-') && !word.contains('.'));
    words.copied().collect::<Vec<_>>().join("-")
}

/// What was typed and what came of it, as it would stand on a terminal.
fn write(path: &Path, words: &[String], said: &str) -> Result<(), FileError> {
    let text = format!("$ ninekeys {}\n{said}", shell_words(words));
    files::write_whole(path, text.as_bytes(), Access::Usual, Taken::Refuse).map(|_| ())
}

/// This program in the demo's folder. What would point it at another cabinet is taken away.
fn child(place: &Place<'_>) -> Command {
    let mut child = Command::new(place.program);
    child.current_dir(&place.folder);
    if place.later {
        child.env("XDG_STATE_HOME", place.folder.join("state"));
    }
    for name in ["NINEKEYS_CABINET", "NINEKEYS_PROJECT", "NINEKEYS_UNLOCK_FILE", "NINEKEYS_PASSPHRASE"] {
        child.env_remove(name);
    }
    if let Some(at) = place.at {
        child.env("NINEKEYS_NOW", at.to_string());
    }
    child
}

/// What stands in for the portal, until it is dropped.
struct Portal {
    child: Child,
    /// What stands for the words that are known later.
    known: Vec<String>,
}

impl Drop for Portal {
    fn drop(&mut self) {
        // its state is whole at any instant
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Portal {
    /// Starts it, and waits until it has said where it listens.
    fn start(place: &Place<'_>, more: &[&str]) -> Result<Self, Failure> {
        const WORDS: [&str; 6] = ["stand-in", "serve", "--folder", "portal", "--format", "json"];
        let failed = |because: String| {
            let attempt = format!("run the demo's `ninekeys {}`", shell_words(&WORDS));
            Failure::plain(Exit::Damaged, &attempt, &because)
                .say("see whether this machine lets programs listen on 127.0.0.1")
        };
        let mut child = child(place);
        // the store looks for no time: where the time is fixed it would look for ever
        child
            .args(WORDS)
            .args(["--looks", "0"])
            .args(more)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null());
        let mut portal =
            Portal { child: child.spawn().map_err(|error| failed(error.to_string()))?, known: Vec::new() };
        let answer =
            portal.child.stdout.take().map(|out| {
                serde_json::Deserializer::from_reader(out).into_iter::<serde_json::Value>().next()
            });
        let said = answer.flatten().ok_or_else(|| failed("it ended without an answer".into()))?;
        let said = said.map_err(|error| failed(error.to_string()))?;
        let fields = ["/address", "/first_key/key_id", "/first_key/issuer"].map(|place| said.pointer(place));
        let text =
            |field: &Option<&serde_json::Value>| field.and_then(|field| field.as_str()).map(str::to_owned);
        portal.known = fields.iter().map(|field| text(field).unwrap_or_default()).collect();
        Ok(portal)
    }

    /// A step's words, as they are typed now.
    fn filled(&self, step: &Step) -> Vec<String> {
        let later = |word: &str| LATER.iter().position(|later| *later == word);
        let words = step
            .words
            .iter()
            .map(|word| later(word).and_then(|index| self.known.get(index)).map_or(*word, |known| known));
        words.map(ToOwned::to_owned).collect()
    }
}

/// Runs the words as a child and returns what it said.
fn run_step(step: &Step, words: &[String], place: &Place<'_>) -> Result<String, Failure> {
    let attempt = format!("run the demo's step `ninekeys {}`", shell_words(words));
    let mut child = child(place);
    child.args(words);
    let output = child.output().map_err(|error| {
        Failure::plain(Exit::Damaged, &attempt, &error.to_string()).say("start the program by its whole path")
    })?;
    let said = [output.stdout, output.stderr].concat();
    let said = String::from_utf8_lossy(&said).into_owned();
    let found = output.status.code();
    if found == Some(i32::from(step.exit)) {
        return Ok(said);
    }
    let found = found.map_or_else(|| "a signal".into(), |code| format!("exit code {code}"));
    let because = format!("it ended with {found}, not with exit code {}; it said: {said}", step.exit);
    Err(Failure::plain(Exit::Defect, &attempt, &because)
        .say("tell the makers of this tool, with what you typed and what it said"))
}
