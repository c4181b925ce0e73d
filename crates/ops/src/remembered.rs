//! What unlocks a cabinet, kept for a while by the operating system where somebody asked for it.

use jiff::Timestamp;
use ninekeys_cabinet::{Credential, Digest};
use ninekeys_formats::secret::{Secret, SecretText};
use thiserror::Error;

use crate::ctx::Ctx;

/// Why the operating system keeps nothing.
#[derive(Debug, Error)]
#[error("this system keeps no credentials for programs: {0}")]
pub struct NotKept(pub String);

/// The operating system's store for credentials: of one user, behind the login.
pub trait CredentialStore {
    /// Keeps a secret under a name, instead of what was kept under it, for no longer than so many seconds where the system counts
    /// them.
    ///
    /// # Errors
    /// [`NotKept`]; then nothing is kept.
    fn keep(&self, name: &str, secret: &SecretText, seconds: u64) -> Result<(), NotKept>;

    /// What is kept under a name.
    fn find(&self, name: &str) -> Option<SecretText>;

    /// Forgets what is kept under a name. Whether there was anything.
    fn forget(&self, name: &str) -> bool;
}

/// Keeps nothing.
pub struct KeepsNothing;

impl CredentialStore for KeepsNothing {
    fn keep(&self, _name: &str, _secret: &SecretText, _seconds: u64) -> Result<(), NotKept> {
        Err(NotKept("there is no such store".into()))
    }

    fn find(&self, _name: &str) -> Option<SecretText> {
        None
    }

    fn forget(&self, _name: &str) -> bool {
        false
    }
}

/// Before what is kept: until when it counts, whatever the system does with it.
const UNTIL: &str = "until ";

/// Keeps what unlocks a cabinet until then.
///
/// # Errors
/// [`NotKept`].
pub(crate) fn keep(
    ctx: &Ctx<'_>,
    cabinet: &Digest,
    key: &SecretText,
    until: Timestamp,
) -> Result<(), NotKept> {
    let seconds = until.duration_since(ctx.env.now).as_secs();
    let text = key.lend(|key| {
        let mut text = String::with_capacity(key.len() + 64);
        text.push_str(&format!("{UNTIL}{until}\n"));
        text.push_str(key);
        Secret::new(text)
    });
    ctx.credentials.keep(&cabinet.to_string(), &text, u64::try_from(seconds).unwrap_or(0))
}

/// What unlocks a cabinet, and until when that counts. What is over is forgotten.
pub(crate) fn find(ctx: &Ctx<'_>, cabinet: &Digest) -> Option<(Credential, Timestamp)> {
    let name = cabinet.to_string();
    let kept = ctx.credentials.find(&name)?;
    let read = kept.lend(|text| {
        let (first, key) = text.split_once('\n')?;
        let until: Timestamp = first.strip_prefix(UNTIL)?.parse().ok()?;
        Some((Credential::UnlockFile(Secret::new(key.to_owned())), until))
    });
    let read = read.filter(|(_, until)| *until > ctx.env.now);
    if read.is_none() {
        ctx.credentials.forget(&name);
    }
    read
}

/// Forgets what unlocks a cabinet. Whether anything was kept.
pub(crate) fn forget(ctx: &Ctx<'_>, cabinet: &Digest) -> bool {
    ctx.credentials.forget(&cabinet.to_string())
}
