//! Which key signs: found by app and destination, or named; and that key, ready to sign.

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::digest::from_hex;
use ninekeys_core::keys::{KeyError, PrivateKey};
use ninekeys_core::model::{Destination, Facts, Inventory, Item, KeystoreEntry, KeystoreFacts, Role};
use thiserror::Error;

/// Why there is no key to sign with.
#[derive(Debug, Error)]
pub enum SignerError {
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// No key for the app.
    #[error("the cabinet holds no {role} key for {app}")]
    NoKey {
        /// The app's name.
        app: String,
        /// Which kind is missing.
        role: &'static str,
    },
    /// Several keys for the app.
    #[error("the cabinet holds several keys for {app}: {}", names.join(", "))]
    SeveralKeys {
        /// The app's name.
        app: String,
        /// The keystores.
        names: Vec<String>,
    },
    /// What was named as key is no keystore.
    #[error("{name} is a {found}, not a keystore")]
    NotAKeystore {
        /// Its name.
        name: String,
        /// What it is.
        found: &'static str,
    },
    /// The private key cannot be used.
    #[error(transparent)]
    Key(#[from] KeyError),
}

/// The key for an app and a destination: for the store its upload key if there is one, else its signing key.
pub(crate) fn choose_key<'a>(
    inventory: &'a Inventory,
    app: &'a str,
    destination: Destination,
    named: Option<&str>,
) -> Result<(&'a Item, &'a KeystoreEntry), SignerError> {
    if let Some(named) = named {
        let item = inventory.find(named).map_err(CabinetError::from)?;
        let Facts::Keystore(facts) = &item.facts else {
            return Err(SignerError::NotAKeystore { name: item.name.clone(), found: item.facts.word() });
        };
        return match named_entry(facts, app, destination) {
            Some(entry) => Ok((item, entry)),
            None => Err(SignerError::NoKey { app: app.into(), role: "signing" }),
        };
    }
    // the same key in several keystores is one key
    let of = |role: Role| -> Vec<_> {
        let mut out: Vec<(&Item, &KeystoreEntry)> = Vec::new();
        for (item, entry) in inventory.android_keys(app).filter(|(_, entry)| entry.role == role) {
            if !out.iter().any(|(_, known)| known.key == entry.key) {
                out.push((item, entry));
            }
        }
        out
    };
    let upload = if destination == Destination::Store { of(Role::Upload) } else { Vec::new() };
    let found = if upload.is_empty() { of(Role::Signing) } else { upload };
    match found.as_slice() {
        [] => Err(SignerError::NoKey { app: app.into(), role: "signing" }),
        [one] => Ok(*one),
        many => Err(SignerError::SeveralKeys {
            app: app.into(),
            names: many.iter().map(|(item, _)| item.name.clone()).collect(),
        }),
    }
}

/// The key of a keystore that was named: one for the app, of the kind that the destination wants if there is one.
fn named_entry<'a>(
    facts: &'a KeystoreFacts,
    app: &str,
    destination: Destination,
) -> Option<&'a KeystoreEntry> {
    let wanted = if destination == Destination::Store { Role::Upload } else { Role::Signing };
    let own = || facts.entries.iter().filter(|entry| entry.apps.iter().any(|name| name == app));
    own().find(|entry| entry.role == wanted).or_else(|| own().next()).or(facts.entries.first())
}

/// The private key and its certificate's DER.
pub(crate) fn load_key(
    cabinet: &Cabinet<'_>,
    inventory: &Inventory,
    entry: &KeystoreEntry,
) -> Result<(PrivateKey, Vec<u8>), SignerError> {
    let gone = || CabinetError::Tampered(format!("the key of {} is gone", entry.alias));
    let key = inventory.get(&entry.key).ok_or_else(gone)?;
    let key = cabinet.secret(key)?.lend(|der| PrivateKey::from_pkcs8(der))?;
    let certificate = match inventory.get(&entry.certificate).map(|item| &item.facts) {
        Some(Facts::Certificate(facts)) => from_hex(&facts.der).ok_or_else(gone)?,
        _ => return Err(gone().into()),
    };
    Ok((key, certificate))
}
