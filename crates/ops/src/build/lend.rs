//! `lend`: a keystore on loan to a build command, gone when the command ends.
//!
//! What is lent is a copy under a password that is made up for this one loan: what leaks of it is worth nothing
//! afterwards. It stands in a private folder, in memory where the system has such a place, and a lock in it tells who
//! comes later whether the lender is still there.

use std::ffi::OsString;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, mpsc};
use std::thread;
use std::time::Duration;

use ninekeys_cabinet::CabinetError;
use ninekeys_core::digest::{from_hex, hex};
use ninekeys_core::keystore::{KeystoreError as FormatError, Outgoing as OutgoingKey, write_pkcs12};
use ninekeys_core::lending::{Mask, forward_strokes, properties};
use ninekeys_core::model::{Destination, Lend, key_called};
use ninekeys_core::password;
use ninekeys_formats::secret::{Secret, SecretText};
use thiserror::Error;
use zeroize::Zeroizing;

use crate::build::material::{self, SignerError};
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, Access, FileError, Taken};
use crate::keystore;
use crate::outgoing::{self, Outgoing};
use crate::project::{ProjectError, ProjectFile};

/// What private folders are called; the rest of the name is random.
const PREFIX: &str = "ninekeys-lent-";
/// What they are called until their lock is held.
const BEGUN: &str = "ninekeys-begun-";
const LOCK: &str = "lock";
/// Names the properties file outside of the folder that goes with it.
const BESIDE: &str = "beside";
const KEYSTORE: &str = "keystore.p12";
const PROPERTIES: &str = "lent.properties";
/// Longer than it takes to make a folder and lock it.
const BEGINNING: Duration = Duration::from_secs(60);
/// How long a command that is over may take to have its last words read.
const LAST_WORDS: Duration = Duration::from_millis(200);
/// How often a running command and pending signals are looked at.
const PATIENCE: Duration = Duration::from_millis(15);

/// Shows bytes that a command said; tells whether anybody reads them.
pub type Shown<'a> = &'a (dyn Fn(&[u8]) -> bool + Sync);

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

/// A private folder that goes when it is dropped, and a file beside it.
struct Loan {
    folder: PathBuf,
    beside: Option<PathBuf>,
    /// Held for as long as the loan lasts.
    _lock: File,
}

impl Drop for Loan {
    fn drop(&mut self) {
        // what another loan put there in the meantime is that loan's
        if let Some(path) = self.beside.as_ref().filter(|path| bears(path, &loan_mark(&self.folder))) {
            let _ = fs::remove_file(path);
        }
        take_back(&self.folder);
    }
}

/// Takes a loan's folder away: what is secret first, the lock last, so that whatever ends us in between leaves something
/// that the next start knows for a loan.
fn take_back(folder: &Path) {
    for secret in [KEYSTORE, PROPERTIES] {
        let _ = fs::remove_file(folder.join(secret));
    }
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        if entry.file_name() != LOCK {
            let path = entry.path();
            let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
            let _ = if is_folder { fs::remove_dir_all(path) } else { fs::remove_file(path) };
        }
    }
    let _ = fs::remove_file(folder.join(LOCK));
    let _ = fs::remove_dir(folder);
}

impl Loan {
    /// Makes the folder, locks it, and only then gives it the name that later starts look for.
    fn begin(folders: &[PathBuf]) -> Result<Loan, LendError> {
        let mut last = LendError::NoFolder;
        for place in folders.iter().filter(|place| place.is_dir()) {
            match Loan::begin_in(place) {
                Ok(loan) => return Ok(loan),
                Err(error) => last = error.into(),
            }
        }
        Err(last)
    }

    fn begin_in(place: &Path) -> Result<Loan, FileError> {
        let failed = |cause| FileError::new("made", place, cause);
        let mut builder = tempfile::Builder::new();
        builder.prefix(BEGUN);
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            builder.permissions(fs::Permissions::from_mode(0o700));
        }
        let begun = builder.tempdir_in(place).map_err(failed)?;
        let lock = File::create_new(begun.path().join(LOCK)).map_err(failed)?;
        lock.lock().map_err(failed)?;
        let name = begun.path().file_name().unwrap_or_default().to_string_lossy().replacen(BEGUN, PREFIX, 1);
        let folder = place.join(name);
        fs::rename(begun.path(), &folder).map_err(failed)?;
        // there is nothing under the old name any more
        let _ = begun.keep();
        Ok(Loan { folder, beside: None, _lock: lock })
    }

    fn path(&self) -> &Path {
        &self.folder
    }
}

/// Lends, runs, and takes back. The exit code is the command's; 128 and the signal's number when a signal ended it.
///
/// # Errors
/// [`LendError`]; then the command never ran, and nothing of the loan is left.
pub fn lend(ctx: &Ctx<'_>, request: &Request<'_>) -> Result<u8, LendError> {
    let file = ctx.project_file()?;
    let (name, app) =
        file.project.app(&request.app).ok_or_else(|| LendError::UnknownApp(request.app.clone()))?;
    let first = app.android.as_ref().and_then(|android| android.destinations.first());
    let destination = request.destination.or(first.copied());
    let destination = destination.ok_or_else(|| LendError::NoDestination(app.title.clone()))?;
    let names = app.lend.clone().unwrap_or_default();
    refuse(&names)?;
    let mut cabinet = ctx.open_unlocked()?;
    let inventory = cabinet.inventory()?;
    let (keystore, entry) = material::choose_key(&inventory, name, destination, request.key.as_deref())?;
    let gone = || CabinetError::Tampered(format!("the key of {} is gone", entry.alias));
    let secret = cabinet.secret(inventory.get(&entry.key).ok_or_else(gone)?)?;
    let certificate = keystore::certificate_of(&inventory, entry).ok_or_else(gone)?;
    let certificate = from_hex(&certificate.der).ok_or_else(gone)?;
    let password = password::generate(&ctx.env).map_err(FormatError::from)?;
    let own = OutgoingKey { alias: &entry.alias, secret: &secret, certificate: &certificate };
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
    let keystore = Secret::new(forward_strokes(lent.keystore));
    let alias = Secret::new(lent.alias.to_owned());
    let fields = [
        (names.keystore.as_str(), &keystore),
        (names.alias.as_str(), &alias),
        (names.password.as_str(), lent.password),
        (names.key_password.as_str(), lent.password),
    ];
    let mark = loan_mark(loan.path());
    let text = properties(&mark, &fields);
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

/// What a properties file on loan begins with: it says whose it is.
fn loan_mark(folder: &Path) -> String {
    let name = folder.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    format!("{LOAN}: {name}")
}

/// What every one of them says.
const LOAN: &str = "on loan, gone when the command ends";

/// Whether a file bears a mark; only as much is read as a properties file on loan has.
fn bears(path: &Path, mark: &str) -> bool {
    let room = usize::try_from(MOST_PROPERTIES).unwrap_or(0) + 64;
    let mut text = Zeroizing::new(Vec::with_capacity(room));
    let read = File::open(path).and_then(|file| file.take(MOST_PROPERTIES).read_to_end(&mut text));
    read.is_ok() && text.windows(mark.len()).any(|window| window == mark.as_bytes())
}

/// More than a properties file on loan has.
const MOST_PROPERTIES: u64 = 64 << 10;

/// A child that does not outlive us.
struct Guard(Child);

impl Drop for Guard {
    fn drop(&mut self) {
        // already over in the usual case, and then this does nothing
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Waits for the command; signals go on to it. A terminal's interrupt reaches it by itself as well, which does no
/// harm.
fn wait(child: &mut Guard, request: &Request<'_>) -> std::io::Result<ExitStatus> {
    loop {
        if let Some(status) = child.0.try_wait()? {
            return Ok(status);
        }
        if let Some(signal) = (request.signal)() {
            pass_on(&mut child.0, signal);
        }
        thread::sleep(PATIENCE);
    }
}

#[cfg(unix)]
fn pass_on(child: &mut Child, signal: i32) {
    use rustix::process::{Pid, Signal, kill_process};
    if let (Some(pid), Some(signal)) =
        (Pid::from_raw(child.id().cast_signed()), Signal::from_named_raw(signal))
    {
        let _ = kill_process(pid, signal);
    }
}

#[cfg(not(unix))]
fn pass_on(child: &mut Child, _signal: i32) {
    let _ = child.kill();
}

/// What a stream of the command said, or that it ended.
type Piece = (usize, Option<Vec<u8>>);

/// Waits, and shows what the command says without the secrets in it. When the command is over, what it said before is
/// shown to its end; a program that it left behind may hold the streams open, and is not waited for.
fn masked(child: &mut Guard, request: &Request<'_>, password: &SecretText) -> std::io::Result<ExitStatus> {
    let (to, from) = mpsc::channel();
    let closed = [Arc::new(AtomicBool::new(false)), Arc::new(AtomicBool::new(false))];
    let [stdout, stderr] = &closed;
    if let Some(stream) = child.0.stdout.take() {
        read_pieces(0, stream, to.clone(), Arc::clone(stdout));
    }
    if let Some(stream) = child.0.stderr.take() {
        read_pieces(1, stream, to.clone(), Arc::clone(stderr));
    }
    drop(to);
    let mut masks = [Mask::new([password]), Mask::new([password])];
    let mut show = |(which, piece): Piece| {
        let (Some(mask), Some(closed)) = (masks.get_mut(which), closed.get(which)) else { return };
        let shown = match piece {
            Some(bytes) => mask.feed(&bytes),
            None => mask.finish(),
        };
        let (to_stdout, to_stderr) = request.outputs;
        let put = if which == 0 { to_stdout } else { to_stderr };
        // nobody reads any more: the command hears of it as it would without us
        if !put(&shown) {
            closed.store(true, Ordering::Relaxed);
        }
    };
    let status = loop {
        match from.recv_timeout(PATIENCE) {
            Ok(piece) => show(piece),
            Err(mpsc::RecvTimeoutError::Disconnected) => break wait(child, request)?,
            Err(mpsc::RecvTimeoutError::Timeout) => {}
        }
        if let Some(status) = child.0.try_wait()? {
            break status;
        }
        if let Some(signal) = (request.signal)() {
            pass_on(&mut child.0, signal);
        }
    };
    while let Ok(piece) = from.recv_timeout(LAST_WORDS) {
        show(piece);
    }
    Ok(status)
}

/// Reads a stream until it ends or nobody wants it, in a thread of its own that is not waited for.
fn read_pieces(
    which: usize,
    mut from: impl Read + Send + 'static,
    to: mpsc::Sender<Piece>,
    closed: Arc<AtomicBool>,
) {
    thread::spawn(move || {
        let mut buffer = [0; 8192];
        while let Ok(length @ 1..) = from.read(&mut buffer) {
            let bytes = buffer.get(..length).unwrap_or_default().to_vec();
            if to.send((which, Some(bytes))).is_err() || closed.load(Ordering::Relaxed) {
                return;
            }
        }
        let _ = to.send((which, None));
    });
}

fn code(status: ExitStatus) -> u8 {
    #[cfg(unix)]
    {
        use std::os::unix::process::ExitStatusExt;
        if let Some(signal) = status.signal() {
            return u8::try_from(128 + signal).unwrap_or(u8::MAX);
        }
    }
    status.code().and_then(|code| u8::try_from(code).ok()).unwrap_or(1)
}

/// Takes away what a lender left that was killed: folders of ours whose lock nobody holds, and the properties file
/// that goes with them.
pub fn sweep(folders: &[PathBuf]) {
    for place in folders {
        let Ok(all) = fs::read_dir(place) else { continue };
        for entry in all.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if !is_private_folder(&entry.path()) {
                continue;
            }
            if name.starts_with(PREFIX) {
                sweep_one(&entry.path());
            } else if name.starts_with(BEGUN) {
                sweep_begun(&entry.path());
            }
        }
    }
}

fn sweep_one(folder: &Path) {
    let Ok(lock) = File::open(folder.join(LOCK)) else { return };
    if lock.try_lock().is_err() {
        return;
    }
    if let Some(beside) = beside(folder)
        && bears(&beside, &loan_mark(folder))
    {
        let _ = fs::remove_file(beside);
    }
    take_back(folder);
}

/// A folder that never became a loan: nothing is in it but a lock, and it is older than a start takes.
fn sweep_begun(folder: &Path) {
    let old = fs::metadata(folder).and_then(|found| found.modified());
    let is_old = old.ok().and_then(|then| then.elapsed().ok()).is_some_and(|age| age > BEGINNING);
    if is_old && File::open(folder.join(LOCK)).map_or(true, |lock| lock.try_lock().is_ok()) {
        let _ = fs::remove_file(folder.join(LOCK));
        let _ = fs::remove_dir(folder);
    }
}

/// The properties file that a folder names.
fn beside(folder: &Path) -> Option<PathBuf> {
    let text = fs::read_to_string(folder.join(BESIDE)).ok()?;
    String::from_utf8(from_hex(&text)?).ok().map(PathBuf::from)
}

/// Whether it is a folder, no link to one, that belongs to us alone: others could make us remove what is not theirs.
#[cfg(unix)]
fn is_private_folder(path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let ours = rustix::process::getuid().as_raw();
    fs::symlink_metadata(path).is_ok_and(|m| m.is_dir() && m.uid() == ours && m.mode() & 0o077 == 0)
}

#[cfg(not(unix))]
fn is_private_folder(path: &Path) -> bool {
    fs::symlink_metadata(path).is_ok_and(|metadata| metadata.is_dir())
}

/// Writes to a stream that may go away; tells whether it is still there.
pub fn put_through(mut to: impl Write, bytes: &[u8]) -> bool {
    to.write_all(bytes).and_then(|()| to.flush()).is_ok()
}
