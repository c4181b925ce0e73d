//! The kernel's key ring of the user: in memory alone, and gone when the user is, or the time is over.

use linux_keyutils::{Key, KeyError, KeyPermissionsBuilder, KeyRing, KeyRingIdentifier, Permission};
use ninekeys_formats::secret::{Secret, SecretText};
use ninekeys_ops::remembered::{CredentialStore, NotKept};

/// The one of the system that this runs on.
pub(crate) struct System;

/// The most that is kept under a name.
const MOST: usize = 16 << 10;

/// A key's name in the ring, which others use too.
fn description(name: &str) -> String {
    format!("ninekeys:{name}")
}

fn ring() -> Result<KeyRing, KeyError> {
    KeyRing::from_special_id(KeyRingIdentifier::User, false)
}

fn key(name: &str) -> Result<Key, KeyError> {
    ring()?.search(&description(name))
}

/// Whoever works as this user can use it, from whatever session.
fn keep(name: &str, secret: &SecretText, seconds: u64) -> Result<(), KeyError> {
    let key = secret.lend(|text| ring()?.add_key(&description(name), text))?;
    let permissions = KeyPermissionsBuilder::builder().posessor(Permission::ALL).user(Permission::ALL);
    let done = key
        .set_perms(permissions.build())
        .and_then(|()| key.set_timeout(usize::try_from(seconds).unwrap_or(usize::MAX)));
    done.inspect_err(|_| {
        let _ = key.invalidate();
    })
}

impl CredentialStore for System {
    fn keep(&self, name: &str, secret: &SecretText, seconds: u64) -> Result<(), NotKept> {
        keep(name, secret, seconds).map_err(|error| NotKept(error.to_string()))
    }

    fn find(&self, name: &str) -> Option<SecretText> {
        let key = key(name).ok()?;
        // all of the room from the start: a buffer that moved would leave the secret behind
        let mut bytes = Secret::new(vec![0; MOST]);
        let length = bytes.change(|bytes| key.read(bytes)).ok()?;
        bytes.lend(|bytes| {
            let text = std::str::from_utf8(bytes.get(..length)?).ok()?;
            Some(Secret::new(text.to_owned()))
        })
    }

    fn forget(&self, name: &str) -> bool {
        key(name).is_ok_and(|key| key.invalidate().is_ok())
    }
}
