//! The credential manager; it knows no end, and what is kept says its own.

use keyring::Entry;
use ninekeys_formats::secret::{Secret, SecretText};
use ninekeys_ops::remembered::{CredentialStore, NotKept};

/// The one of the system that this runs on.
pub(crate) struct System;

/// Under what everything of ours is kept.
const SERVICE: &str = "ninekeys";

impl CredentialStore for System {
    fn keep(&self, name: &str, secret: &SecretText, _seconds: u64) -> Result<(), NotKept> {
        let failed = |error: keyring::Error| NotKept(error.to_string());
        let entry = Entry::new(SERVICE, name).map_err(failed)?;
        secret.lend(|text| entry.set_password(text)).map_err(failed)
    }

    fn find(&self, name: &str) -> Option<SecretText> {
        Entry::new(SERVICE, name).ok()?.get_password().ok().map(Secret::new)
    }

    fn forget(&self, name: &str) -> bool {
        Entry::new(SERVICE, name).is_ok_and(|entry| entry.delete_credential().is_ok())
    }
}
