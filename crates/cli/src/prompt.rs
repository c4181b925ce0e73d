//! Secrets from people, files, descriptors and the environment; never from arguments.

use std::io::IsTerminal;
use std::path::PathBuf;

use ninekeys_cabinet::Credential;
use ninekeys_formats::secret::{Secret, SecretText};
use ninekeys_ops::{Ask, AskError, FileError, files};

use crate::arguments::Global;
use crate::failure::{Exit, Failure};

/// The most that a file or descriptor with a secret may have.
const LIMIT: u64 = 16 << 10;

/// Asks on the terminal, when there is one.
pub(crate) struct Terminal;

impl Ask for Terminal {
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

/// The credential that was given on the command line or in the environment. What was named last in this order
/// is taken only when nothing before it was: unlock file, passphrase file, descriptor, `NINEKEYS_PASSPHRASE`.
pub(crate) fn credential(global: &Global) -> Result<Option<Credential>, Failure> {
    let failed = |error: FileError| Failure::of("unlock the cabinet", &error);
    if let Some(path) = &global.unlock_file {
        let text = files::read_whole(path, LIMIT).map_err(failed)?;
        let text = String::from_utf8(text).map_err(|_| {
            Failure::plain(Exit::Damaged, "unlock the cabinet", "the unlock file holds no X25519 identity")
        })?;
        return Ok(Some(Credential::Identity(Secret::new(text))));
    }
    let given = Given {
        file: global.passphrase_file.as_ref(),
        descriptor: global.passphrase_fd,
        variable: Some("NINEKEYS_PASSPHRASE"),
    };
    Ok(given.read().map_err(failed)?.map(Credential::Passphrase))
}
