//! Secrets from people, files, descriptors and the environment; never from arguments.

use std::fs::File;
use std::io::{IsTerminal, Read, Write};
use std::path::{Path, PathBuf};

use ninekeys_cabinet::Credential;
use ninekeys_formats::secret::{Secret, SecretText};
use ninekeys_ops::{Ask, AskError, FileError};

use crate::arguments::Global;

/// The most that a file or descriptor with a secret may have.
const LIMIT: u64 = 16 << 10;

/// Asks on the terminal, when there is one.
pub(crate) struct Terminal {
    unlock_file: Option<PathBuf>,
    passphrase_in: Option<PathBuf>,
    passphrase_on: Option<u32>,
}

impl Terminal {
    /// With what the command line gives.
    pub(crate) fn new(global: &Global) -> Self {
        Terminal {
            unlock_file: global.unlock_file.clone(),
            passphrase_in: global.passphrase_in.clone(),
            passphrase_on: global.passphrase_on,
        }
    }
}

impl Ask for Terminal {
    /// The first that was named, in this order: unlock file, passphrase file, descriptor,
    /// `NINEKEYS_PASSPHRASE`.
    fn given(&self) -> Result<Option<Credential>, FileError> {
        if let Some(path) = &self.unlock_file {
            return from_file(path).map(|text| Some(Credential::UnlockFile(text)));
        }
        let given = Given {
            file: self.passphrase_in.as_ref(),
            descriptor: self.passphrase_on,
            variable: Some("NINEKEYS_PASSPHRASE"),
        };
        // no passphrase is empty: the variable is as good as not set
        let text = given.read()?.filter(|text| text.lend(|text| !text.is_empty()));
        Ok(text.map(Credential::Passphrase))
    }

    fn secret(&self, what: &str) -> Result<Option<SecretText>, AskError> {
        if !std::io::stdin().is_terminal() {
            return Ok(None);
        }
        let text = rpassword::prompt_password(format!("{what}: ")).map_err(AskError::Terminal)?;
        Ok(Some(Secret::new(text)))
    }

    fn line(&self, question: &str) -> Result<Option<String>, AskError> {
        if !std::io::stdin().is_terminal() {
            return Ok(None);
        }
        let mut stderr = anstream::stderr();
        let asked = write!(stderr, "{question}: ").and_then(|()| stderr.flush());
        asked.map_err(AskError::Terminal)?;
        let mut answer = String::new();
        match std::io::stdin().read_line(&mut answer).map_err(AskError::Terminal)? {
            0 => Err(AskError::Terminal(std::io::ErrorKind::UnexpectedEof.into())),
            _ => Ok(Some(answer.trim_end_matches(['\r', '\n']).to_owned())),
        }
    }

    fn tell(&self, text: &str) {
        let _ = writeln!(anstream::stderr(), "  {text}");
    }

    fn secret_files(&self) -> Vec<PathBuf> {
        self.unlock_file.iter().chain(&self.passphrase_in).cloned().collect()
    }
}

/// Where a secret may be given without a prompt.
#[derive(Debug, Default)]
pub(crate) struct Given<'a> {
    /// A file.
    pub(crate) file: Option<&'a PathBuf>,
    /// A file descriptor.
    pub(crate) descriptor: Option<u32>,
    /// The name of an environment variable.
    pub(crate) variable: Option<&'a str>,
}

impl Given<'_> {
    /// The secret from the first place that was named. A variable that is not set is no secret; one that is set and empty is
    /// an empty one.
    pub(crate) fn read(&self) -> Result<Option<SecretText>, FileError> {
        if let Some(path) = self.file {
            return from_file(path).map(Some);
        }
        if let Some(number) = self.descriptor {
            let place = PathBuf::from(format!("the descriptor {number}"));
            return descriptor(number)
                .map_err(|cause| FileError::new("read", &place, cause))
                .and_then(|file| secret_from(file, &place))
                .map(Some);
        }
        self.variable.map_or(Ok(None), variable)
    }
}

fn from_file(path: &Path) -> Result<SecretText, FileError> {
    let file = File::open(path).map_err(|cause| FileError::new("read", path, cause))?;
    secret_from(file, path)
}

/// The descriptor itself, and not what its path would open anew: a pipe, a socket, or a file where it stands.
#[cfg(target_os = "linux")]
fn descriptor(number: u32) -> std::io::Result<File> {
    use rustix::process::{PidfdFlags, PidfdGetfdFlags, getpid, pidfd_getfd, pidfd_open};
    let number = i32::try_from(number).map_err(|_| std::io::Error::from(std::io::ErrorKind::InvalidInput))?;
    let own = pidfd_open(getpid(), PidfdFlags::empty());
    match own.and_then(|own| pidfd_getfd(own, number, PidfdGetfdFlags::empty())) {
        Ok(descriptor) => Ok(File::from(descriptor)),
        // a system that has no such call, or does not allow it
        Err(rustix::io::Errno::NOSYS | rustix::io::Errno::PERM) => File::open(format!("/dev/fd/{number}")),
        Err(error) => Err(error.into()),
    }
}

/// Other systems' paths of descriptors stand for the descriptors themselves.
#[cfg(not(target_os = "linux"))]
fn descriptor(number: u32) -> std::io::Result<File> {
    File::open(format!("/dev/fd/{number}"))
}

/// Reads to the end, as a descriptor has no length; what is longer than any secret is refused, and not cut.
fn secret_from(file: File, place: &Path) -> Result<SecretText, FileError> {
    let failed = |cause| FileError::new("read", place, cause);
    let room = usize::try_from(LIMIT + 1).unwrap_or(usize::MAX);
    // all of the room from the start: a buffer that moved would leave the secret behind
    let mut bytes = Secret::new(Vec::with_capacity(room));
    bytes.change(|bytes| file.take(LIMIT + 1).read_to_end(bytes)).map_err(failed)?;
    bytes.lend(|bytes| {
        if bytes.len() >= room {
            return Err(failed(std::io::Error::other("it is longer than 16 KiB, which no secret is")));
        }
        let text = std::str::from_utf8(bytes).map_err(|_| failed(not_text()))?;
        Ok(Secret::new(without_end(text).to_owned()))
    })
}

fn not_text() -> std::io::Error {
    std::io::Error::other("it is not text (UTF-8)")
}

/// A line's end behind a secret is not a part of it, wherever it comes from.
fn without_end(text: &str) -> &str {
    text.trim_end_matches(['\r', '\n'])
}

#[expect(clippy::disallowed_methods, reason = "this is where secrets come in from the environment")]
fn variable(name: &str) -> Result<Option<SecretText>, FileError> {
    let Some(value) = std::env::var_os(name) else { return Ok(None) };
    match value.into_string() {
        Ok(text) => {
            Ok(Some(Secret::new(text))
                .map(|text| text.lend(|text| Secret::new(without_end(text).to_owned()))))
        }
        Err(_) => Err(FileError::new("read", Path::new(&format!("the variable {name}")), not_text())),
    }
}
