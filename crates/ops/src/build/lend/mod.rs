//! `lend`: a keystore, or an identity with its chain and profiles, on loan to a build command, gone when the command ends.
//!
//! What is lent is a copy under a password that is made up for this one loan: what leaks of it is worth nothing
//! afterwards. It stands in a private folder, in memory where the system has such a place, and a lock in it tells who
//! comes later whether the lender is still there.

mod explain;
mod goods;
mod loan;
mod run;

use std::ffi::OsString;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus, Stdio};

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::keystore::KeystoreError as FormatError;
use ninekeys_core::lending::{forward_strokes, keystore_properties};
use ninekeys_core::model::{ApiUse, App, Destination, Lend, Platform};
use ninekeys_formats::secret::SecretText;
use ninekeys_portal::client::PortalError;
use thiserror::Error;

use crate::app::next::{Side, sides};
use crate::build::identity_material::IdentityMaterialError;
use crate::build::material::SignerError;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, Access, FileError, NewFolders, Taken};
use crate::identity::CertificatesError;
use crate::outgoing::{self, Outgoing};
use crate::portal::{ConnectError, can_ask};
use crate::project::{ProjectError, ProjectFile};

use goods::{Goods, Value};
use loan::{Beside, LOAN, Loan, Mark, PROPERTIES, bears, is_lent, loan_mark};
use run::{Guard, Shown, code, masked, wait};

pub use explain::{ExplainRequest, Holds, LendExplainReport, Setting, lend_explain};
pub use loan::sweep;
pub use run::put_through;

/// What is lent to whom.
pub struct Request<'a> {
    /// The app whose key is lent.
    pub app: String,
    /// The platform that is built for, when the app has several sides.
    pub platform: Option<Platform>,
    /// Where its build goes; its first destination when nothing is said.
    pub destination: Option<Destination>,
    /// The keystore or the identity, when there are several.
    pub key: Option<String>,
    /// Whether a properties file is written.
    pub properties: bool,
    /// Whether the version and number of the next build are told.
    pub next: bool,
    /// Whether secrets in the command's output are masked.
    pub mask: bool,
    /// The command.
    pub command: Vec<OsString>,
    /// Folders that a private folder may be in, the best first.
    pub folders: Vec<PathBuf>,
    /// Variables that the command must not see.
    pub hidden: &'a [&'a str],
    /// The signal that came since it was asked last.
    pub signal: &'a dyn Fn() -> Option<i32>,
    /// Where the command's output goes when it is masked: stdout and stderr.
    pub outputs: (Shown<'a>, Shown<'a>),
}

/// Why nothing was lent.
#[derive(Debug, Error)]
pub enum LendError {
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// No app of that name.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The app is not built for that platform.
    #[error("{title} has no {} side in the project file", platform.title())]
    NoSide {
        /// What people call the app.
        title: String,
        /// The platform.
        platform: Platform,
    },
    /// It is built for several, and the two are lent different things.
    #[error("{0} is built for Android and for iOS, and one of them is lent at a time")]
    SeveralSides(String),
    /// A properties file for a build for iOS.
    #[error("a properties file leads to a keystore; a build for iOS gets its loan in environment variables")]
    Properties,
    /// What an app for iOS needs.
    #[error(transparent)]
    Identity(#[from] IdentityMaterialError),
    /// The project's roots.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
    /// What the project pins.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The store, asked for the next number.
    #[error(transparent)]
    Store(#[from] PortalError),
    /// The app goes nowhere.
    #[error("the project file names no destination for {0}")]
    NoDestination(String),
    /// No key, or several.
    #[error(transparent)]
    Key(#[from] SignerError),
    /// A key that counts by a proof, which a build command cannot put into a build.
    #[error(
        "{0} took over from another key, and devices take it only with the proof of that: a build command would sign without one"
    )]
    TookOver(String),
    /// The keystore could not be put together.
    #[error(transparent)]
    Format(#[from] FormatError),
    /// A file or folder.
    #[error(transparent)]
    File(#[from] FileError),
    /// A name in the project file that no variable can have.
    #[error("`{0}` cannot be the name of an environment variable")]
    Variable(String),
    /// A name in the project file that would have to hold two things at once.
    #[error("`{0}` is named twice in the project file, and cannot hold two things")]
    NamedTwice(String),
    /// A file that is there and is not ours.
    #[error("{0} is there already; what is on loan never takes the place of a file that is yours")]
    Exists(String),
    /// Another command has its loan there.
    #[error("{0} is on loan to another command; it goes when that command ends")]
    OnLoan(String),
    /// No folder to be had.
    #[error("there is no folder to keep the loan in")]
    NoFolder,
    /// The command did not start.
    #[error("the command {command} could not be started: {}", reason(cause))]
    NotStarted {
        /// Its name.
        command: String,
        /// What the system said.
        #[source]
        cause: std::io::Error,
    },
    /// The command that was to be run first did not do its work.
    #[error("the command that comes before ({command}) ended with {code}, and the build was not begun")]
    Before {
        /// Its name.
        command: String,
        /// What it ended with.
        code: u8,
    },
    /// The command that was to be run at the end did not do its work.
    #[error(
        "the command that comes after ({command}) ended with {code}: what was lent may still be where it was put"
    )]
    After {
        /// Its name.
        command: String,
        /// What it ended with.
        code: u8,
        /// What the build had ended with.
        build: u8,
    },
}

fn reason(cause: &std::io::Error) -> String {
    match cause.kind() {
        std::io::ErrorKind::NotFound => "there is no such program".into(),
        std::io::ErrorKind::PermissionDenied => "you have no permission".into(),
        _ => cause.to_string(),
    }
}

/// Lends, runs, and takes back. The exit code is the command's; 128 and the signal's number when a signal ended it.
///
/// # Errors
/// [`LendError`]; then the command never ran, unless it is [`LendError::After`], and nothing of the loan is left.
pub fn lend(ctx: &Ctx<'_>, request: &Request<'_>) -> Result<u8, LendError> {
    let file = ctx.project_file()?;
    let asked = ctx.destination(request.destination)?;
    let wanted = wanted(&file, &request.app, request.platform, asked)?;
    if request.properties && wanted.platform == Platform::Ios {
        return Err(LendError::Properties);
    }
    let mut cabinet = ctx.open_unlocked()?;
    let mut goods = Goods::take(ctx, &file, &cabinet, &wanted, request.key.as_deref())?;
    if request.next {
        goods.variables.extend(next_build(ctx, &file, &cabinet, &wanted)?);
    }
    let what = format!("lend {} to {}", goods.what, program(&request.command));
    let mut outgoing = Outgoing::begin(ctx, &cabinet)?;
    let mut loan = Loan::begin(&request.folders)?;
    outgoing.note(loan.path(), loan.path(), Access::Owner)?;
    outgoing.intend(ctx, &mut cabinet, &what, outgoing::LEND, &[goods.key], Vec::new(), None)?;
    let ran = Lending { folder: &ctx.folder, request, file: &file, names: &wanted.names, goods: &goods }
        .run(&mut loan, &mut outgoing);
    drop(loan);
    let ended = if matches!(ran, Ok(_) | Err(LendError::After { .. })) { "ended" } else { "never began" };
    // what cannot be written now is said by the next command
    let _ = outgoing.end(ctx, &mut cabinet, &format!("{what}: {ended}"), false);
    ran
}

/// The version and the number of the next build, as variables; the store is asked where a key may ask it.
fn next_build(
    ctx: &Ctx<'_>,
    file: &ProjectFile,
    cabinet: &Cabinet<'_>,
    wanted: &Wanted<'_>,
) -> Result<Vec<(String, Value)>, LendError> {
    let inventory = cabinet.inventory()?;
    let asked = can_ask(&file.project, &inventory, ApiUse::Uploads, Some(wanted.name));
    let sides: Vec<Side> = sides::<LendError>(ctx, cabinet, file, (wanted.name, wanted.app), asked)?;
    let own = sides.into_iter().filter(|side| side.platform == wanted.platform);
    let of = |side: Side| {
        [
            (wanted.names.next_version.clone(), Value::Text(side.next.version)),
            (wanted.names.next_build.clone(), Value::Text(side.next.number.to_string())),
        ]
    };
    Ok(own.flat_map(of).collect())
}

fn program(command: &[OsString]) -> String {
    command.first().map(|word| word.to_string_lossy().into_owned()).unwrap_or_default()
}

/// Whose loan it is, and under which names its build command gets what is lent.
struct Wanted<'p> {
    name: &'p str,
    app: &'p App,
    platform: Platform,
    destination: Destination,
    names: Lend,
}

fn wanted<'p>(
    file: &'p ProjectFile,
    app: &str,
    platform: Option<Platform>,
    destination: Option<Destination>,
) -> Result<Wanted<'p>, LendError> {
    let (name, app) = file.project.app(app).ok_or_else(|| LendError::UnknownApp(app.into()))?;
    if let Some(platform) = platform.filter(|platform| app.side(*platform).is_none()) {
        return Err(LendError::NoSide { title: app.title.clone(), platform });
    }
    let could = |side: &Platform| {
        app.side(*side).is_some()
            && platform.is_none_or(|wanted| wanted == *side)
            && destination.is_none_or(|destination| side.has(destination))
    };
    let platform =
        match [Platform::Android, Platform::Ios].into_iter().filter(could).collect::<Vec<_>>().as_slice() {
            [one] => *one,
            // what is missing then is told where it is looked for
            [] => platform.unwrap_or(Platform::Android),
            _ => return Err(LendError::SeveralSides(app.title.clone())),
        };
    let first = app.side(platform).and_then(|side| side.destinations.first().copied());
    let destination = destination.or(first);
    let destination = destination.ok_or_else(|| LendError::NoDestination(app.title.clone()))?;
    let names = app.lend.clone().unwrap_or_default();
    let wanted = Wanted { name, app, platform, destination, names };
    refuse(&wanted)?;
    Ok(wanted)
}

fn refuse(wanted: &Wanted<'_>) -> Result<(), LendError> {
    let names = &wanted.names;
    let all = goods::variables(names, wanted);
    for name in &all {
        let plain = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
        if !plain || name.starts_with(|c: char| c.is_ascii_digit()) {
            return Err(LendError::Variable(name.clone()));
        }
    }
    // the two passwords of a keystore are one, and may share their name
    let both = |one: &String, other: &String| {
        wanted.platform == Platform::Android
            && [one, other].map(String::as_str) == [&names.password, &names.key_password]
    };
    let twice = all.iter().enumerate().find_map(|(at, one)| {
        let mut others = all.iter().enumerate().filter(|(other_at, _)| *other_at > at);
        others.find(|(_, other)| *other == one).filter(|(_, other)| !both(one, other)).map(|_| one.as_str())
    });
    let field = names.properties.as_ref().and_then(|properties| properties.shared_field());
    match twice.or(field) {
        Some(name) => Err(LendError::NamedTwice(name.into())),
        None => Ok(()),
    }
}

/// What a shell says of a command that could not be started.
const NOT_FOUND: u8 = 127;

/// A loan, under way.
struct Lending<'a> {
    folder: &'a Path,
    request: &'a Request<'a>,
    file: &'a ProjectFile,
    names: &'a Lend,
    goods: &'a Goods,
}

impl Lending<'_> {
    /// Puts the loan into its folder, and runs the commands: the one before, the build, the one after.
    fn run(&self, loan: &mut Loan, outgoing: &mut Outgoing) -> Result<u8, LendError> {
        let (request, names) = (self.request, self.names);
        self.put_down(loan)?;
        let mut environment = self.environment(loan.path());
        if self.goods.alias.is_some() && (request.properties || names.properties.is_some()) {
            let names = names.properties.clone().unwrap_or_default();
            let path = self.write_properties(loan, outgoing, &names)?;
            environment.push((names.variable.clone(), Said::Text(path.display().to_string())));
        }
        if !names.before.is_empty() {
            let code = self.run_beside(&names.before, &environment);
            if code != 0 {
                // it may have begun its work
                self.run_beside(&names.after, &environment);
                let command = names.before.first().cloned().unwrap_or_default();
                return Err(LendError::Before { command, code });
            }
        }
        let ran = self.run_one(&request.command, &environment).map(code);
        let after = self.run_beside(&names.after, &environment);
        match (ran?, after) {
            (build, 0) => Ok(build),
            (build, code) => {
                let command = names.after.first().cloned().unwrap_or_default();
                Err(LendError::After { command, code, build })
            }
        }
    }

    /// Runs a command that comes before or after, and tells what it ended with: one that could not be started is not the build,
    /// and ends as a shell says it.
    fn run_beside(&self, words: &[String], environment: &[(String, Said<'_>)]) -> u8 {
        let words: Vec<OsString> = words.iter().map(OsString::from).collect();
        if words.is_empty() { 0 } else { self.run_one(&words, environment).map_or(NOT_FOUND, code) }
    }

    /// Writes what is lent: into the private folder, and where build programs look.
    fn put_down(&self, loan: &mut Loan) -> Result<(), LendError> {
        let private =
            |path: &Path, bytes: &[u8]| files::write_whole(path, bytes, Access::Owner, Taken::Refuse);
        let (name, bytes) = &self.goods.file;
        private(&loan.path().join(name), bytes)?;
        for (path, bytes) in &self.goods.beside {
            let path = loan.path().join(path);
            NewFolders::make(files::folder_of(&path))?.keep();
            private(&path, bytes)?;
        }
        // what is there with the same bytes serves as it is, and stays
        let same = |path: &Path, bytes: &[u8]| {
            files::read_whole(path, bytes.len() as u64).is_ok_and(|found| found == bytes)
        };
        let mut new = Vec::new();
        for (path, bytes) in &self.goods.outside {
            let shown = || path.strip_prefix(self.folder).unwrap_or(path).display().to_string();
            if is_lent(&self.request.folders, path) {
                return Err(LendError::OnLoan(shown()));
            }
            if same(path, bytes) {
                continue;
            }
            if fs::symlink_metadata(path).is_ok() {
                return Err(LendError::Exists(shown()));
            }
            new.push((path, bytes));
        }
        for (path, bytes) in new {
            let beside = Beside { path: path.clone(), mark: Mark::Sha256(sha256_hex(bytes)) };
            // noted first: a later start takes away what this one might leave
            loan.note_beside(&beside)?;
            NewFolders::make(files::folder_of(path))?.keep();
            files::write_whole(path, bytes, Access::Usual, Taken::Refuse)?;
            loan.holds(beside);
        }
        Ok(())
    }

    /// What the environment of every command says.
    fn environment(&self, folder: &Path) -> Vec<(String, Said<'_>)> {
        let said = |value: &Value| match value {
            Value::Within(path) => Said::Text(forward_strokes(&folder.join(path))),
            Value::Text(text) => Said::Text(text.clone()),
            Value::Password => Said::Secret(&self.goods.password),
        };
        self.goods.variables.iter().map(|(name, value)| (name.clone(), said(value))).collect()
    }

    /// Runs one command to its end.
    fn run_one(
        &self,
        words: &[OsString],
        environment: &[(String, Said<'_>)],
    ) -> Result<ExitStatus, LendError> {
        let request = self.request;
        let not_started = |cause| LendError::NotStarted { command: program(words), cause };
        let (name, words) =
            words.split_first().ok_or_else(|| not_started(std::io::ErrorKind::NotFound.into()))?;
        let mut command = Command::new(name);
        command.args(words);
        for name in request.hidden {
            command.env_remove(name);
        }
        for (name, said) in environment {
            match said {
                Said::Text(text) => {
                    command.env(name, text);
                }
                Said::Secret(secret) => secret.lend(|text| {
                    command.env(name, text);
                }),
            }
        }
        if request.mask {
            command.stdout(Stdio::piped()).stderr(Stdio::piped());
        }
        let mut child = Guard(command.spawn().map_err(not_started)?);
        let ended = match request.mask {
            true => masked(&mut child, request, &self.goods.password),
            false => wait(&mut child, request),
        };
        ended.map_err(not_started)
    }

    /// Writes the properties file: into the private folder, or where the project file says, never over another.
    fn write_properties(
        &self,
        loan: &mut Loan,
        outgoing: &mut Outgoing,
        names: &ninekeys_core::model::Properties,
    ) -> Result<PathBuf, LendError> {
        let mark = loan_mark(loan.path());
        let keystore = loan.path().join(self.goods.file.0);
        let alias = self.goods.alias.as_deref().unwrap_or_default();
        let text = keystore_properties(&mark, names, &keystore, alias, &self.goods.password);
        let outside = names.file.as_ref().map(|file_name| self.file.resolve(file_name));
        let path = outside.unwrap_or_else(|| loan.path().join(PROPERTIES));
        let taken = || {
            let shown = path.strip_prefix(self.folder).unwrap_or(&path).display().to_string();
            if bears(&path, LOAN) { LendError::OnLoan(shown) } else { LendError::Exists(shown) }
        };
        // a link that leads nowhere is the user's as well
        if fs::symlink_metadata(&path).is_ok() {
            return Err(taken());
        }
        if !path.starts_with(loan.path()) {
            let beside = Beside { path: path.clone(), mark: Mark::Own };
            loan.note_beside(&beside)?;
            loan.holds(beside);
        }
        let output = outgoing.file(&path, Access::Owner)?;
        text.lend(|text| output.put(0, text.as_bytes()))?;
        // another loan may have taken the name meanwhile
        output.finish(Taken::Refuse).map_err(|error| match error.cause.kind() {
            std::io::ErrorKind::AlreadyExists => taken(),
            _ => error.into(),
        })?;
        Ok(path)
    }
}

/// What a variable says, when it is known where things stand.
enum Said<'a> {
    Text(String),
    Secret(&'a SecretText),
}
