//! What was ever put into a repository, asked of its own program (git), which also knows what was taken out again.

use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};

use ninekeys_core::findings::Level;

use super::{Found, MOST, SweepError, What, in_bytes, may_be_something, shown};
use crate::build::background::Background;
use crate::ctx::Ctx;

/// The secrets that are in any commit.
pub(super) fn look(ctx: &Ctx<'_>, folder: &Path, background: &Background) -> Result<Vec<Found>, SweepError> {
    let failed = |because: String| SweepError::Repository { path: folder.to_owned(), because };
    let listed = run(folder, &["rev-list", "--objects", "--all"], b"").map_err(failed)?;
    let listed = String::from_utf8_lossy(&listed).into_owned();
    let objects: Vec<(&str, &str)> = listed.lines().filter_map(|line| line.split_once(' ')).collect();
    let names: String = objects.iter().map(|(id, _)| format!("{id}\n")).collect();
    let format = "--batch-check=%(objecttype) %(objectsize)";
    let sizes = run(folder, &["cat-file", format], names.as_bytes()).map_err(failed)?;
    let sizes = String::from_utf8_lossy(&sizes).into_owned();
    let small = objects.iter().zip(sizes.lines()).filter(|(_, size)| {
        let size = size.strip_prefix("blob ").and_then(|size| size.parse::<u64>().ok());
        size.is_some_and(|size| size > 0 && size <= MOST)
    });
    let small: Vec<(&str, &str)> = small.map(|(object, _)| *object).collect();
    let mut out = Vec::new();
    contents(folder, &small, &mut |id, path, bytes| {
        if ctx.env.stopped() || !may_be_something(bytes.get(..4096).unwrap_or(bytes), bytes.len() as u64) {
            return;
        }
        let place = shown(ctx, &folder.join(path));
        let secrets = in_bytes(ctx, bytes.to_vec(), &place, background).into_iter();
        out.extend(secrets.filter(|one| one.what.is_secret()).map(|one| {
            // a keystore in a repository is in every copy of it, and its password is guessed at leisure
            let level = if one.what == What::EncryptedKey { one.level } else { Level::Error };
            Found { commit: Some(id.to_owned()), level, ..one }
        }));
    })
    .map_err(failed)?;
    for one in &mut out {
        let id = one.commit.take().unwrap_or_default();
        let found = ["log", "--all", "--format=%h", &format!("--find-object={id}")].map(str::to_owned);
        let words: Vec<&str> = found.iter().map(String::as_str).collect();
        let commit = run(folder, &words, b"").map_err(failed)?;
        // the last one that is told is the first that had it
        let commit = String::from_utf8_lossy(&commit).lines().last().unwrap_or_default().to_owned();
        one.commit = Some(if commit.is_empty() { id.chars().take(7).collect() } else { commit });
    }
    Ok(out)
}

fn git(folder: &Path, words: &[&str]) -> Command {
    let mut command = Command::new("git");
    // no setting of the repository runs anything
    command
        .args(["-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-C"])
        .arg(folder)
        .args(words);
    command.env("GIT_OPTIONAL_LOCKS", "0").env("GIT_TERMINAL_PROMPT", "0").stderr(Stdio::piped());
    command
}

/// Whether a repository around a file has it, by its own program; not where there is none.
pub(crate) fn is_tracked(path: &Path) -> bool {
    let folder = crate::files::folder_of(path);
    let (Some(name), true) = (path.file_name(), folder.ancestors().any(|above| above.join(".git").exists()))
    else {
        return false;
    };
    let mut command = git(folder, &["ls-files", "--error-unmatch", "--"]);
    let asked = command.arg(name).stdin(Stdio::null()).stdout(Stdio::null()).status();
    asked.is_ok_and(|status| status.success())
}

/// What git says, and what it is asked on its input.
fn run(folder: &Path, words: &[&str], input: &[u8]) -> Result<Vec<u8>, String> {
    let mut command = git(folder, words);
    let mut child =
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().map_err(|e| e.to_string())?;
    let mut stdin = child.stdin.take();
    let output = std::thread::scope(|scope| {
        scope.spawn(move || stdin.as_mut().map(|stdin| stdin.write_all(input)));
        child.wait_with_output().map_err(|error| error.to_string())
    })?;
    match output.status.success() {
        true => Ok(output.stdout),
        false => Err(String::from_utf8_lossy(&output.stderr).chars().take(200).collect()),
    }
}

/// The contents of objects, one after the other.
fn contents(
    folder: &Path,
    objects: &[(&str, &str)],
    each: &mut dyn FnMut(&str, &str, &[u8]),
) -> Result<(), String> {
    let mut command = git(folder, &["cat-file", "--batch"]);
    let mut child =
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().map_err(|e| e.to_string())?;
    let mut stdin = child.stdin.take();
    let names: String = objects.iter().map(|(id, _)| format!("{id}\n")).collect();
    let stdout = child.stdout.take();
    let read = std::thread::scope(|scope| {
        scope.spawn(move || stdin.take().map(|mut stdin| stdin.write_all(names.as_bytes())));
        let mut lines = BufReader::new(stdout.ok_or("no output")?);
        for (id, path) in objects {
            let mut head = String::new();
            lines.read_line(&mut head).map_err(|error| error.to_string())?;
            let size = head.trim().rsplit(' ').next().and_then(|size| size.parse::<u64>().ok());
            let size = size.filter(|size| *size <= MOST).ok_or("an object that was not asked for")?;
            let mut bytes = Vec::new();
            lines.by_ref().take(size + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
            bytes.pop();
            each(id, path, &bytes);
        }
        Ok::<_, String>(())
    });
    let _ = child.wait();
    read
}
