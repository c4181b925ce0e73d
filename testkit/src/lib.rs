//! Test material, and the place where the built program runs during tests: an empty environment, a home of its
//! own, a fixed time.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    clippy::disallowed_methods,
    clippy::print_stderr,
    reason = "this crate is for tests alone: what fails here fails a test"
)]

pub mod builds;
pub mod cases;

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::{Arc, Mutex, OnceLock};

use tempfile::TempDir;

/// The time that tests run at, unless they say otherwise.
pub const NOW: &str = "2031-05-19T12:00:00Z";

/// The time at which the samples of the iOS side are good.
const IOS_NOW: &str = "2026-12-01T00:00:00Z";

/// A file with its bytes or a folder without any, and its mode.
type Entry = (String, Option<Vec<u8>>, u32);

/// A place as it was when it was first made, to be written out again.
struct Template {
    folder: Vec<Entry>,
    home: Vec<Entry>,
}

/// Every template, by what it is of.
static TEMPLATES: Mutex<BTreeMap<String, Arc<OnceLock<Template>>>> = Mutex::new(BTreeMap::new());

thread_local! {
    /// How many places of each kind this thread has: a test runs on one of its own.
    static PLACES: RefCell<BTreeMap<&'static str, usize>> = const { RefCell::new(BTreeMap::new()) };
}

/// A place of a kind: made by the program the first time, and written out again for other tests, since making it is most of what
/// a short test costs. Two places of one test are of two templates: each has a cabinet of its own.
fn again(program: &str, now: &str, kind: &'static str, make: fn(&str, &str) -> TestEnv) -> TestEnv {
    let number = PLACES.with_borrow_mut(|places| {
        let number = places.entry(kind).or_default();
        *number += 1;
        *number
    });
    let key = format!("{kind} {number} {now} {program}");
    let slot = TEMPLATES.lock().unwrap().entry(key).or_default().clone();
    let template = slot.get_or_init(|| {
        let env = make(program, now);
        Template { folder: entries(env.folder()), home: entries(env.home()) }
    });
    let env = TestEnv::new(program).at(now);
    write_out(env.folder(), &template.folder);
    write_out(env.home(), &template.home);
    env
}

/// Everything below a folder, what is above before what is below it.
fn entries(top: &Path) -> Vec<Entry> {
    let mut out = Vec::new();
    let mut folders = vec![top.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path.strip_prefix(top).unwrap().display().to_string();
            let bytes = if path.is_dir() { None } else { Some(fs::read(&path).unwrap()) };
            out.push((name, bytes, mode(&path)));
            if path.is_dir() {
                folders.push(path);
            }
        }
    }
    out.sort();
    out
}

fn write_out(top: &Path, entries: &[Entry]) {
    for (name, bytes, mode) in entries {
        let path = top.join(name);
        match bytes {
            None => fs::create_dir(&path).unwrap(),
            Some(bytes) => fs::write(&path, bytes).unwrap(),
        }
        set_mode(&path, *mode);
    }
}

#[cfg(unix)]
fn mode(path: &Path) -> u32 {
    use std::os::unix::fs::PermissionsExt;
    fs::metadata(path).unwrap().permissions().mode()
}

#[cfg(unix)]
fn set_mode(path: &Path, mode: u32) {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
}

#[cfg(not(unix))]
fn mode(_path: &Path) -> u32 {
    0
}

#[cfg(not(unix))]
fn set_mode(_path: &Path, _mode: u32) {}

/// A folder, and the program that runs in it.
pub struct TestEnv {
    folder: TempDir,
    /// Where the program remembers what it has seen.
    home: TempDir,
    program: PathBuf,
    now: String,
    variables: Vec<(String, String)>,
}

impl TestEnv {
    /// An empty folder for the program at this path.
    pub fn new(program: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let home = tempfile::tempdir().unwrap();
        TestEnv { folder, home, program: program.into(), now: NOW.into(), variables: Vec::new() }
    }

    /// With a cabinet, an unlock file and the two apps of the ferry company.
    pub fn with_project(program: &str) -> Self {
        again(program, NOW, "project", TestEnv::make_project)
    }

    fn make_project(program: &str, now: &str) -> Self {
        let env = TestEnv::new(program).at(now);
        env.run("init --title Ferries --new-unlock-file unlock.txt").exit(0);
        env.run("app add crossing --package example.gannetpoint.crossing --for direct --for store").exit(0);
        env.run("app add quayside --package example.gannetpoint.quayside --for direct").exit(0);
        env
    }

    /// With a signing key for Crossing as well, and its release build.
    pub fn with_key(program: &str) -> Self {
        again(program, NOW, "key", TestEnv::make_key)
    }

    fn make_key(program: &str, now: &str) -> Self {
        // not a place that is written out again: this one's cabinet is its own
        let env = TestEnv::make_project(program, now);
        env.run("keystore create crossing-signing --app crossing --common-name Ferries --algorithm ec-p256")
            .exit(0);
        env.file("crossing.apk", &builds::crossing().apk());
        env
    }

    /// With a project of the iOS side, at a time when the samples of an independent authority are good: its root is named,
    /// the files lie in `in`, and `pw` opens those that have a password.
    pub fn with_ios(program: &str) -> Self {
        TestEnv::with_ios_at(program, IOS_NOW)
    }

    /// The same at another time.
    pub fn with_ios_at(program: &str, now: &str) -> Self {
        again(program, now, "ios", TestEnv::make_ios)
    }

    fn make_ios(program: &str, now: &str) -> Self {
        let env = TestEnv::new(program).at(now);
        env.run("init --title 'Gannet Point Ferries' --new-unlock-file unlock.txt").exit(0);
        for file in fs::read_dir(data("samples/ios")).unwrap() {
            let path = file.unwrap().path();
            env.file(
                &format!("in/{}", path.file_name().unwrap().to_string_lossy()),
                &fs::read(&path).unwrap(),
            );
        }
        env.file("pw", b"pier-pass-1\n");
        let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
        let says = "team = \"GPFERRY009\"\nroots = [\"in/root.pem\"]\n";
        let account = "\n[account.releases]\nemail = \"releases@gannetpoint.example\"\n";
        env.file("ninekeys.toml", format!("{says}{project}{account}").as_bytes());
        env.run("app add crossing --bundle-id example.gannetpoint.crossing --for store").exit(0);
        env.run("app add deckhand --bundle-id example.gannetpoint.deckhand --for devices").exit(0);
        env
    }

    /// With the distribution identity of the samples and its chain in its cabinet as well.
    pub fn with_identity(program: &str) -> Self {
        again(program, IOS_NOW, "identity", TestEnv::make_identity)
    }

    fn make_identity(program: &str, now: &str) -> Self {
        let env = TestEnv::make_ios(program, now);
        env.run("identity accept in/intermediate.pem").exit(0);
        env.run("identity import in/distribution.p12 --name gp-distribution --password-in pw").exit(0);
        env
    }

    /// The time that it is here.
    pub fn now(&self) -> &str {
        &self.now
    }

    /// At another time.
    #[must_use]
    pub fn at(mut self, now: &str) -> Self {
        self.now = now.into();
        self
    }

    /// With a variable set.
    #[must_use]
    pub fn variable(mut self, name: &str, value: &str) -> Self {
        self.variables.push((name.into(), value.into()));
        self
    }

    /// The user's home: another one is another machine.
    pub fn home(&self) -> &Path {
        self.home.path()
    }

    /// The folder.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// A path in the folder.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder().join(name)
    }

    /// Writes a file.
    pub fn file(&self, name: &str, bytes: &[u8]) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    /// Reads a file.
    pub fn read(&self, name: &str) -> Vec<u8> {
        fs::read(self.path(name)).unwrap_or_else(|error| panic!("{name}: {error}"))
    }

    /// Every file below the folder with its content, by name.
    pub fn files(&self) -> Vec<(String, Vec<u8>)> {
        files_below(self.folder())
    }

    /// The program with these words, not started yet.
    pub fn command<S: AsRef<OsStr>>(&self, words: impl IntoIterator<Item = S>) -> Command {
        let mut command = Command::new(&self.program);
        command.args(words).current_dir(self.folder()).env_clear();
        command.env("HOME", self.home.path()).env("LANG", "C.UTF-8").env("NINEKEYS_NOW", &self.now);
        command.envs(self.variables.iter().map(|(name, value)| (name, value)));
        command.stdin(Stdio::null());
        command
    }

    /// Runs the program and kills it at a system call, the `when`-th of those of `calls` that it makes. Tells whether it came
    /// so far; nothing where this machine has no `strace`.
    pub fn killed_at<S: AsRef<OsStr>>(
        &self,
        calls: &str,
        when: usize,
        words: impl IntoIterator<Item = S>,
    ) -> Option<bool> {
        let code = self.injected(calls, "signal=KILL", when, words)?.status.code();
        Some(code.is_none_or(|code| code == 137))
    }

    /// Runs the program and lets a system call fail with `error`, as [`TestEnv::killed_at`] counts them. Tells how it ended, and what
    /// it said of that.
    pub fn failing_at<S: AsRef<OsStr>>(
        &self,
        (calls, error): (&str, &str),
        when: usize,
        words: impl IntoIterator<Item = S>,
    ) -> Option<(Option<i32>, String)> {
        let output = self.injected(calls, &format!("error={error}"), when, words)?;
        Some((output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned()))
    }

    fn injected<S: AsRef<OsStr>>(
        &self,
        calls: &str,
        fault: &str,
        when: usize,
        words: impl IntoIterator<Item = S>,
    ) -> Option<Output> {
        let inner = self.command(words);
        let mut command = Command::new("strace");
        command.args(["-f", "-qq", "-o", "/dev/null", "-e"]).arg(format!("trace={calls}")).arg("-e");
        command.arg(format!("inject={calls}:{fault}:when={when}"));
        command.arg(inner.get_program()).args(inner.get_args()).current_dir(self.folder()).env_clear();
        command.envs(inner.get_envs().filter_map(|(name, value)| Some((name, value?))));
        command.env("PATH", "/usr/bin:/bin").stdin(Stdio::null()).stdout(Stdio::null());
        command.stderr(Stdio::piped()).output().ok()
    }

    /// Runs another program in the folder, with words between spaces; it has to succeed. Tells what it said.
    pub fn other(&self, line: &str) -> String {
        let words = split(line);
        let (program, rest) = words.split_first().unwrap();
        self.other_with(program, rest)
    }

    /// The same with words that may have anything in them.
    pub fn other_with<S: AsRef<OsStr>>(&self, program: &str, words: &[S]) -> String {
        let output = Command::new(program).args(words).current_dir(self.folder()).output().unwrap();
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        let said = said + &String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{program}\n{said}");
        said
    }

    /// Runs the program with words between spaces; single quotes keep words together.
    pub fn run(&self, line: &str) -> Ran {
        let words = split(line);
        let output = self.command(&words).output().unwrap();
        Ran { line: line.into(), output, folder: self.folder().display().to_string() }
    }
}

/// Every file below a folder with its content, by name.
pub fn files_below(top: &Path) -> Vec<(String, Vec<u8>)> {
    let mut out = Vec::new();
    let mut folders = vec![top.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else {
                let name = path.strip_prefix(top).unwrap().display().to_string();
                out.push((name, fs::read(&path).unwrap_or_default()));
            }
        }
    }
    out.sort();
    out
}

fn split(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut word = None::<String>;
    let mut quoted = false;
    for c in line.chars() {
        match c {
            '\'' => {
                quoted = !quoted;
                word.get_or_insert_default();
            }
            ' ' if !quoted => words.extend(word.take()),
            c => word.get_or_insert_default().push(c),
        }
    }
    words.extend(word);
    words
}

/// What came of a run.
#[must_use = "a run says nothing until its exit code is looked at"]
pub struct Ran {
    line: String,
    output: Output,
    folder: String,
}

impl Ran {
    /// Demands an exit code.
    pub fn exit(self, wanted: i32) -> Said {
        let said = Said {
            stdout: String::from_utf8_lossy(&self.output.stdout).into_owned(),
            stderr: String::from_utf8_lossy(&self.output.stderr).into_owned(),
            folder: self.folder,
            line: self.line,
        };
        let found = self.output.status.code();
        assert_eq!(found, Some(wanted), "ninekeys {}\n{}{}", said.line, said.stdout, said.stderr);
        said
    }
}

impl Ran {
    /// Demands one of two exit codes.
    pub fn exit_either(self, one: i32, other: i32) -> Said {
        let wanted = if self.output.status.code() == Some(other) { other } else { one };
        self.exit(wanted)
    }

    /// Demands one of several exit codes; the answer as JSON, if there is one.
    pub fn exit_any_json(self, wanted: &[i32]) -> Option<serde_json::Value> {
        let answer = serde_json::from_slice(&self.output.stdout).ok();
        self.exit_any(wanted);
        answer
    }

    /// Its exit code.
    pub fn code(self) -> i32 {
        self.output.status.code().unwrap_or(-1)
    }

    /// What it said on stderr when it failed, which it has to.
    pub fn failed(self) -> String {
        assert_ne!(self.output.status.code(), Some(0), "ninekeys {} was done", self.line);
        String::from_utf8_lossy(&self.output.stderr).into_owned()
    }

    /// Demands one of several exit codes.
    pub fn exit_any(self, wanted: &[i32]) {
        let code = self.output.status.code().unwrap_or(-1);
        let said = String::from_utf8_lossy(&self.output.stderr);
        assert!(wanted.contains(&code), "ninekeys {}: exit {code}\n{said}", self.line);
    }
}

/// What a run said.
pub struct Said {
    /// On stdout.
    pub stdout: String,
    /// On stderr.
    pub stderr: String,
    folder: String,
    line: String,
}

impl Said {
    /// Demands that stdout or stderr says something.
    pub fn says(&self, text: &str) -> &Self {
        let all = format!("{}{}", self.stdout, self.stderr);
        assert!(all.contains(text), "`ninekeys {}` does not say `{text}`:\n{all}", self.line);
        self
    }

    /// Demands that neither says something.
    pub fn is_silent_on(&self, text: &str) -> &Self {
        let all = format!("{}{}", self.stdout, self.stderr);
        assert!(!all.contains(text), "`ninekeys {}` says `{text}`:\n{all}", self.line);
        self
    }

    /// The answer as JSON.
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.stdout).unwrap_or_else(|error| panic!("{error}:\n{}", self.stdout))
    }

    /// Both streams, with what differs from run to run replaced: the folder, fingerprints, serials.
    pub fn normalised(&self) -> String {
        let text = format!("{}{}", self.stdout, self.stderr);
        text.replace(&self.folder, "FOLDER")
    }
}

/// A new private key on P-256, as a portal gives it out: PKCS#8 in PEM.
pub fn private_key_pem() -> Vec<u8> {
    use ninekeys_core::keys::{Algorithm, KeyMaker, SystemKeys};
    use ninekeys_formats::pem;
    let secret = SystemKeys.make(Algorithm::P256).unwrap();
    secret.lend(|der| pem::encode(pem::PRIVATE_KEY, der).unwrap().into_bytes())
}

/// Where the committed cases and samples are.
pub fn data(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join(name)
}

/// Whether a program is there; says so when it is not, so that a skipped test is seen.
pub fn has(program: &str, argument: &str) -> bool {
    let found = Command::new(program).arg(argument).stdout(Stdio::null()).stderr(Stdio::null()).status();
    let there = found.is_ok();
    if !there {
        eprintln!("skipped: there is no `{program}` on this machine");
    }
    there
}
