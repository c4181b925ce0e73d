//! `lend`: a keystore on loan to a build command, gone when the command ends.
//!
//! What is lent is a copy under a password that is made up for this one loan: what leaks of it is worth nothing
//! afterwards. It stands in a private folder, in memory where the system has such a place, and a lock in it tells who
//! comes later whether the lender is still there.

mod explain;
mod loan;
mod run;

use std::ffi::OsString;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use ninekeys_cabinet::CabinetError;
use ninekeys_core::digest::{from_hex, hex};
use ninekeys_core::keystore::{KeystoreError as FormatError, Outgoing as OutgoingKey, write_pkcs12};
use ninekeys_core::lending::{forward_strokes, keystore_properties};
use ninekeys_core::model::{Destination, Lend, key_called};
use ninekeys_core::password;
use ninekeys_formats::secret::SecretText;
use thiserror::Error;

use crate::build::material::{self, SignerError};
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, Access, FileError, Taken};
use crate::keystore;
use crate::outgoing::{self, Outgoing};
use crate::project::{ProjectError, ProjectFile};

use loan::{BESIDE, KEYSTORE, LOAN, Loan, PROPERTIES, bears, loan_mark};
use run::{Guard, Shown, code, masked, wait};

pub use explain::{ExplainRequest, Holds, LendExplainReport, Setting, lend_explain};
pub use loan::sweep;
pub use run::put_through;

/// What is lent to whom.
pub struct Request<'a> {
    /// The app whose key is lent.
    pub app: String,
    /// Where its build goes; its first destination when nothing is said.
    pub destination: Option<Destination>,
    /// The keystore, when there are several.
    pub key: Option<String>,
    /// Whether a properties file is written.
    pub properties: bool,
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
    /// The app goes nowhere.
    #[error("the project file names no destination for {0}")]
    NoDestination(String),
    /// No key, or several.
    #[error(transparent)]
    Key(#[from] SignerError),
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
    #[error("{0} is there already; a properties file on loan never takes the place of one that is yours")]
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
/// [`LendError`]; then the command never ran, and nothing of the loan is left.
pub fn lend(ctx: &Ctx<'_>, request: &Request<'_>) -> Result<u8, LendError> {
    let file = ctx.project_file()?;
    let (name, destination, names) = wanted(&file, &request.app, request.destination)?;
    let mut cabinet = ctx.open_unlocked()?;
    let inventory = cabinet.inventory()?;
    let (keystore, entry) = material::choose_key(&inventory, name, destination, request.key.as_deref())?;
    let gone = || CabinetError::Tampered(format!("the key of {} is gone", entry.alias));
    let secret = cabinet.secret(inventory.get(&entry.key).ok_or_else(gone)?)?;
    let certificate = keystore::certificate_of(&inventory, entry).ok_or_else(gone)?;
    let certificate = from_hex(&certificate.der).ok_or_else(gone)?;
    let password = password::generate(&ctx.env).map_err(FormatError::from)?;
    let own = OutgoingKey { alias: &entry.alias, secret: &secret, certificate: &certificate, chain: &[] };
    let bytes = write_pkcs12(&[own], &password, &ctx.env)?;

    let program = request.command.first().map(|word| word.to_string_lossy().into_owned()).unwrap_or_default();
    let what = format!("lend {} to {program}", key_called(&keystore.name, &entry.alias));
    let mut outgoing = Outgoing::begin(ctx, &cabinet)?;
    let mut loan = Loan::begin(&request.folders)?;
    outgoing.note(loan.path(), loan.path(), Access::Owner)?;
    outgoing.intend(ctx, &mut cabinet, &what, outgoing::LEND, &[entry.key], Vec::new(), None)?;
    let ran =
        run_with(ctx, request, &file, &names, (&mut loan, &mut outgoing), &bytes, &entry.alias, &password);
    drop(loan);
    let ended = if ran.is_ok() { "ended" } else { "never began" };
    // what cannot be written now is said by the next command
    let _ = outgoing.end(ctx, &mut cabinet, &format!("{what}: {ended}"), false);
    ran
}

/// The app's name, where its build goes, and under which names its build command gets what is lent.
fn wanted<'p>(
    file: &'p ProjectFile,
    app: &str,
    destination: Option<Destination>,
) -> Result<(&'p str, Destination, Lend), LendError> {
    let (name, app) = file.project.app(app).ok_or_else(|| LendError::UnknownApp(app.into()))?;
    let first = app.android.as_ref().and_then(|android| android.destinations.first());
    let destination = destination.or(first.copied());
    let destination = destination.ok_or_else(|| LendError::NoDestination(app.title.clone()))?;
    let names = app.lend.clone().unwrap_or_default();
    refuse(&names)?;
    Ok((name, destination, names))
}

/// Puts the loan into its folder, and runs the command.
#[expect(clippy::too_many_arguments, reason = "one loan: what, under which names, to whom")]
fn run_with(
    ctx: &Ctx<'_>,
    request: &Request<'_>,
    file: &ProjectFile,
    names: &Lend,
    (loan, outgoing): (&mut Loan, &mut Outgoing),
    bytes: &[u8],
    alias: &str,
    password: &SecretText,
) -> Result<u8, LendError> {
    let keystore_path = loan.path().join(KEYSTORE);
    files::write_whole(&keystore_path, bytes, Access::Owner, Taken::Refuse)?;
    let lent = Lent { keystore: &keystore_path, alias, password };
    let mut command = command(request, names, &lent)?;
    if request.properties || names.properties.is_some() {
        let names = names.properties.clone().unwrap_or_default();
        let outside = names.file.as_ref().map(|file_name| file.resolve(file_name));
        let path = write_properties((loan, outgoing), &names, outside, &lent, ctx)?;
        command.env(&names.variable, path);
    }
    let program = request.command.first().map(|word| word.to_string_lossy().into_owned()).unwrap_or_default();
    let not_started = |cause| LendError::NotStarted { command: program.clone(), cause };
    let child = command.spawn().map_err(not_started)?;
    let mut child = Guard(child);
    let status = if request.mask { masked(&mut child, request, password) } else { wait(&mut child, request) };
    Ok(code(status.map_err(not_started)?))
}

fn refuse(names: &Lend) -> Result<(), LendError> {
    let file = names.properties.iter().map(|properties| properties.variable.as_str());
    for name in names.variables().into_iter().chain(file) {
        let plain = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
        if !plain || name.starts_with(|c: char| c.is_ascii_digit()) {
            return Err(LendError::Variable(name.into()));
        }
    }
    let field = names.properties.as_ref().and_then(|properties| properties.shared_field());
    if let Some(name) = names.shared_variable().or(field) {
        return Err(LendError::NamedTwice(name.into()));
    }
    Ok(())
}

/// What is lent.
struct Lent<'a> {
    keystore: &'a Path,
    alias: &'a str,
    password: &'a SecretText,
}

fn command(request: &Request<'_>, names: &Lend, lent: &Lent<'_>) -> Result<Command, LendError> {
    let Some((program, words)) = request.command.split_first() else {
        let cause = std::io::ErrorKind::NotFound.into();
        return Err(LendError::NotStarted { command: String::new(), cause });
    };
    let mut command = Command::new(program);
    command.args(words);
    for name in request.hidden {
        command.env_remove(name);
    }
    command.env(&names.keystore, forward_strokes(lent.keystore)).env(&names.alias, lent.alias);
    lent.password.lend(|text| {
        command.env(&names.password, text).env(&names.key_password, text);
    });
    if request.mask {
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
    }
    Ok(command)
}

/// Writes the properties file: into the private folder, or where the project file says, never over another.
fn write_properties(
    (loan, outgoing): (&mut Loan, &mut Outgoing),
    names: &ninekeys_core::model::Properties,
    outside: Option<PathBuf>,
    lent: &Lent<'_>,
    ctx: &Ctx<'_>,
) -> Result<PathBuf, LendError> {
    let mark = loan_mark(loan.path());
    let text = keystore_properties(&mark, names, lent.keystore, lent.alias, lent.password);
    let path = outside.unwrap_or_else(|| loan.path().join(PROPERTIES));
    let taken = || {
        let shown = path.strip_prefix(&ctx.folder).unwrap_or(&path).display().to_string();
        if bears(&path, LOAN) { LendError::OnLoan(shown) } else { LendError::Exists(shown) }
    };
    // a link that leads nowhere is the user's as well
    if fs::symlink_metadata(&path).is_ok() {
        return Err(taken());
    }
    if !path.starts_with(loan.path()) {
        // noted first: a later start takes away what this one might leave
        let place = path.as_os_str().as_encoded_bytes();
        files::write_whole(&loan.path().join(BESIDE), hex(place).as_bytes(), Access::Owner, Taken::Refuse)?;
        loan.beside = Some(path.clone());
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
