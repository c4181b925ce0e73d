//! The key chain; it knows no end, and what is kept says its own.

use ninekeys_formats::secret::{Secret, SecretText};
use ninekeys_ops::remembered::{CredentialStore, NotKept};
use security_framework::passwords::{delete_generic_password, get_generic_password, set_generic_password};

/// The one of the system that this runs on.
pub(crate) struct System;

/// Under what everything of ours is kept.
const SERVICE: &str = "ninekeys";

impl CredentialStore for System {
    fn keep(&self, name: &str, secret: &SecretText, _seconds: u64) -> Result<(), NotKept> {
        let kept = secret.lend(|text| set_generic_password(SERVICE, name, text.as_bytes()));
        kept.map_err(|error| NotKept(error.to_string()))
    }

    fn find(&self, name: &str) -> Option<SecretText> {
        let bytes = Secret::new(get_generic_password(SERVICE, name).ok()?);
        bytes.lend(|bytes| std::str::from_utf8(bytes).ok().map(|text| Secret::new(text.to_owned())))
    }

    fn forget(&self, name: &str) -> bool {
        delete_generic_password(SERVICE, name).is_ok()
    }
}
