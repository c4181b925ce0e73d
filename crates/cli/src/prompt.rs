//! Secrets from people, files, descriptors and the environment; never from arguments.

use std::io::IsTerminal;
use std::path::PathBuf;

use ninekeys_cabinet::Credential;
use ninekeys_formats::secret::{Secret, SecretText};
use ninekeys_ops::{Ask, AskError, FileError};

use crate::arguments::Global;

/// The most that a file or descriptor with a secret may have.
const LIMIT: u64 = 16 << 10;

/// Asks on the terminal, when there is one.
pub(crate) struct Terminal {
    unlock_file: Option<PathBuf>,
    passphrase_file: Option<PathBuf>,
    passphrase_fd: Option<u32>,
}

impl Terminal {
    /// With what the command line gives.
    pub(crate) fn new(global: &Global) -> Self {
        Terminal {
            unlock_file: global.unlock_file.clone(),
            passphrase_file: global.passphrase_file.clone(),
            passphrase_fd: global.passphrase_fd,
        }
    }
}

impl Ask for Terminal {
    /// The first that was named, in this order: unlock file, passphrase file, descriptor,
    /// `NINEKEYS_PASSPHRASE`.
    fn given(&self) -> Result<Option<Credential>, FileError> {
        if let Some(path) = &self.unlock_file {
            return secret_from(path.clone()).map(|text| Some(Credential::Identity(text)));
        }
        let given = Given {
            file: self.passphrase_file.as_ref(),
            descriptor: self.passphrase_fd,
            variable: Some("NINEKEYS_PASSPHRASE"),
        };
        Ok(given.read()?.map(Credential::Passphrase))
    }

    fn secret(&self, what: &str) -> Result<Option<SecretText>, AskError> {
        if !std::io::stdin().is_terminal() {
            return Ok(None);
        }
        let text = rpassword::prompt_password(format!("{what}: ")).map_err(AskError::Terminal)?;
        Ok(Some(Secret::new(text)))
    }

    fn new_secret(&self, what: &str) -> Result<Option<SecretText>, AskError> {
        let Some(first) = self.secret(what)? else { return Ok(None) };
        let Some(second) = self.secret("Once more")? else { return Ok(None) };
        let same = first.lend(|first| second.lend(|second| first == second));
        if same { Ok(Some(first)) } else { Err(AskError::Differ) }
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
    /// The secret from the first place that was named. A variable that is not set is no secret.
    pub(crate) fn read(&self) -> Result<Option<SecretText>, FileError> {
        if let Some(path) = self.file {
            return secret_from(path.clone()).map(Some);
        }
        if let Some(number) = self.descriptor {
            return secret_from(PathBuf::from(format!("/dev/fd/{number}"))).map(Some);
        }
        Ok(self.variable.and_then(variable))
    }
}

/// Reads to the end, as a descriptor has no length.
fn secret_from(path: PathBuf) -> Result<SecretText, FileError> {
    let failed = |cause| FileError::new("read", &path, cause);
    let file = std::fs::File::open(&path).map_err(failed)?;
    let mut text = String::new();
    let mut limited = std::io::Read::take(file, LIMIT);
    std::io::Read::read_to_string(&mut limited, &mut text).map_err(failed)?;
    let whole = Secret::new(text);
    Ok(whole.lend(|text| Secret::new(text.trim_end_matches(['\r', '\n']).to_owned())))
}

#[expect(clippy::disallowed_methods, reason = "this is where secrets come in from the environment")]
fn variable(name: &str) -> Option<SecretText> {
    std::env::var(name).ok().filter(|text| !text.is_empty()).map(Secret::new)
}
