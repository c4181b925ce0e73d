//! What every command on keystores shares: finding them and their keys, putting keys in, passwords, errors.

pub mod change;
pub mod create;
pub mod export;
pub mod hand_over;
pub mod import;
pub mod password;
pub mod retire;
pub mod settings;
pub mod take_out;

use ninekeys_cabinet::{CabinetError, Change, NewItem};
use ninekeys_core::digest::{hex, sha256_hex};
use ninekeys_core::keys::KeyError;
use ninekeys_core::model::{
    CertificateFacts, Facts, Inventory, Item, ItemId, KeyFacts, KeystoreEntry, KeystoreFacts, NotFound, Role,
    Use,
};
use ninekeys_core::password::{self as strength, PasswordError};
use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::{self, AppSaid};
use crate::ask::AskError;
use crate::ctx::Ctx;
use crate::project::ProjectError;

/// Where a password comes from.
#[derive(Debug)]
pub enum NewPassword {
    /// The tool makes it up.
    Generated,
    /// A file, a descriptor or the environment gave it.
    Given(SecretText),
    /// A person is asked.
    Asked,
}

/// Why a keystore or its key was not found.
#[derive(Debug, Error)]
pub enum FindError {
    /// Nothing, or too much, goes by that name.
    #[error(transparent)]
    NotFound(#[from] NotFound),
    /// What was named is no keystore.
    #[error("{name} is {found}, not a keystore")]
    NotAKeystore {
        /// Its name.
        name: String,
        /// What it is.
        found: String,
    },
    /// The keystore has no such key.
    #[error(transparent)]
    NoAlias(#[from] NoAlias),
    /// Several keys, and none was named.
    #[error("{place} has several keys: {}", known.join(", "))]
    SeveralAliases {
        /// The keystore.
        place: String,
        /// Its aliases.
        known: Vec<String>,
    },
}

/// No key of that alias.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{place} has no key with the alias {alias}; it has {}", known.join(", "))]
pub struct NoAlias {
    /// The keystore or file.
    pub place: String,
    /// What was asked for.
    pub alias: String,
    /// The aliases that are there.
    pub known: Vec<String>,
}

/// Another key of the keystore has that alias.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{place} has a key with the alias {alias} already")]
pub struct AliasTaken {
    /// The keystore.
    pub place: String,
    /// The alias.
    pub alias: String,
}

/// An alias that not every reader takes.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{0}` cannot be an alias: 1 to 64 printable ASCII characters, no blank at either end")]
pub struct AliasError(pub String);

/// Why a key cannot be for an app.
#[derive(Debug, Error)]
pub enum AppsError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The project file has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The app has no Android side.
    #[error("{title} has no Android side in the project file")]
    NotAndroid {
        /// Its name.
        app: String,
        /// What people call it.
        title: String,
    },
}

/// Why there is no password.
#[derive(Debug, Error)]
pub enum PasswordChoiceError {
    /// It will not do.
    #[error(transparent)]
    Password(#[from] PasswordError),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// There is nobody to ask for it.
    #[error("there is no terminal to ask for the password on")]
    NobodyToAsk,
    /// None could be made up.
    #[error(transparent)]
    Generator(#[from] KeyError),
}

/// The apps that were named: name and title.
pub(crate) fn apps(ctx: &Ctx<'_>, wanted: &[String]) -> Result<Vec<AppSaid>, AppsError> {
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let project = ctx.project_file()?.project;
    let mut out: Vec<AppSaid> = Vec::new();
    for wanted in wanted {
        let found = project.app(wanted).ok_or_else(|| AppsError::UnknownApp(wanted.clone()))?;
        let (name, app) = found;
        if app.android.is_none() {
            return Err(AppsError::NotAndroid { app: name.into(), title: app.title.clone() });
        }
        if !out.iter().any(|known| known.app == name) {
            out.push(AppSaid { app: name.into(), title: app.title.clone() });
        }
    }
    Ok(out)
}

/// Refuses an alias that not every reader takes.
pub(crate) fn check_alias(alias: &str) -> Result<(), AliasError> {
    let printable = alias.bytes().all(|byte| (0x20..0x7f).contains(&byte) && byte != b'/');
    if (1..=64).contains(&alias.len()) && printable && alias.trim() == alias {
        Ok(())
    } else {
        Err(AliasError(alias.into()))
    }
}

/// The keystore with that name.
pub(crate) fn find<'a>(
    inventory: &'a Inventory,
    name: &str,
) -> Result<(&'a Item, &'a KeystoreFacts), FindError> {
    let item = inventory.find(name)?;
    match &item.facts {
        Facts::Keystore(facts) => Ok((item, facts)),
        other => Err(FindError::NotAKeystore { name: item.name.clone(), found: other.one() }),
    }
}

/// The keystore's key with that alias, without case; its only one when none is named.
pub(crate) fn entry<'a>(
    place: &str,
    facts: &'a KeystoreFacts,
    alias: Option<&str>,
) -> Result<&'a KeystoreEntry, FindError> {
    let known = || facts.entries.iter().map(|entry| entry.alias.clone()).collect();
    match (alias, facts.entries.as_slice()) {
        (Some(wanted), entries) => {
            let found = entries.iter().find(|entry| entry.alias.to_lowercase() == wanted.to_lowercase());
            found.ok_or_else(|| NoAlias { place: place.into(), alias: wanted.into(), known: known() }.into())
        }
        (None, [only]) => Ok(only),
        (None, _) => Err(FindError::SeveralAliases { place: place.into(), known: known() }),
    }
}

/// The facts of an entry's key.
pub(crate) fn key_facts<'a>(inventory: &'a Inventory, entry: &KeystoreEntry) -> Option<&'a KeyFacts> {
    match &inventory.get(&entry.key)?.facts {
        Facts::Key(facts) => Some(facts),
        _ => None,
    }
}

/// The facts of an entry's certificate.
pub(crate) fn certificate_of<'a>(
    inventory: &'a Inventory,
    entry: &KeystoreEntry,
) -> Option<&'a CertificateFacts> {
    inventory.certificate(&entry.certificate)
}

/// A password, made up, given or asked for, and whether it is easy to guess.
pub(crate) fn choose_password(
    ctx: &Ctx<'_>,
    from: NewPassword,
    known: &[&str],
) -> Result<(SecretText, bool), PasswordChoiceError> {
    let chosen = match from {
        NewPassword::Generated => return Ok((strength::generate(&ctx.env)?, false)),
        NewPassword::Given(given) => given,
        NewPassword::Asked => {
            let judge = |text: &SecretText| {
                strength::judge(text, known).map(|_| ()).map_err(|error| error.to_string())
            };
            let asked = ctx.ask.new_secret("Password for the keystore", &judge)?;
            asked.ok_or(PasswordChoiceError::NobodyToAsk)?
        }
    };
    let judged = strength::judge(&chosen, known)?;
    Ok((chosen, judged.weak))
}

/// A secret text as secret bytes: a password as a keystore's sealed part, a file's content.
pub(crate) fn as_bytes(text: &SecretText) -> SecretBytes {
    text.lend(|text| Secret::new(text.clone().into_bytes()))
}

/// A key on its way into a keystore.
pub(crate) struct NewKey<'a> {
    pub(crate) alias: &'a str,
    pub(crate) role: Role,
    pub(crate) apps: &'a [String],
    pub(crate) secret: SecretBytes,
    pub(crate) certificate: &'a Certificate,
}

/// Puts a key and its certificate in, below the keystore's name. A private key is kept once: where the cabinet
/// holds it already, the entry names the item that is there, and so with its certificate.
pub(crate) fn put_key(
    change: &mut Change<'_>,
    keystore: &str,
    new: NewKey<'_>,
) -> Result<KeystoreEntry, CabinetError> {
    let inventory = change.inventory();
    let name = part_name(keystore, new.alias);
    let fingerprint = sha256_hex(&new.certificate.public_key);
    let key = match key_with(&inventory, &fingerprint) {
        Some(known) => known,
        None => {
            let facts = KeyFacts {
                algorithm: new.certificate.key.to_string(),
                public_key: hex(&new.certificate.public_key),
                fingerprint,
            };
            change.put(NewItem::new(name.clone(), Facts::Key(facts), Some(new.secret)))?
        }
    };
    let facts = certificate_facts(new.certificate, Some(key));
    let known = inventory.iter().find(|item| {
        matches!(&item.facts, Facts::Certificate(c) if c.fingerprint == facts.fingerprint && c.key == Some(key))
    });
    let certificate = match known {
        Some(item) => item.id,
        None => change.put(NewItem::new(
            format!("{name}/certificate"),
            Facts::Certificate(Box::new(facts)),
            None,
        ))?,
    };
    let uses = new.apps.iter().map(|app| Use { app: app.clone(), role: new.role }).collect();
    Ok(KeystoreEntry { alias: new.alias.into(), role: new.role, key, certificate, uses, after: None })
}

/// What a key is called below its keystore; a stroke would look like one level more.
pub(crate) fn part_name(keystore: &str, alias: &str) -> String {
    format!("{keystore}/{}", alias.replace('/', "_"))
}

/// The key item with that fingerprint.
pub(crate) fn key_with(inventory: &Inventory, fingerprint: &str) -> Option<ItemId> {
    let is = |item: &&Item| matches!(&item.facts, Facts::Key(facts) if facts.fingerprint == fingerprint);
    inventory.iter().find(is).map(|item| item.id)
}

pub(crate) fn certificate_facts(certificate: &Certificate, key: Option<ItemId>) -> CertificateFacts {
    CertificateFacts {
        key,
        der: hex(&certificate.der),
        fingerprint: sha256_hex(&certificate.der),
        subject: certificate.subject.clone(),
        issuer: certificate.issuer.clone(),
        serial: hex(&certificate.serial),
        not_before: answers::time(certificate.not_before),
        not_after: answers::time(certificate.not_after),
    }
}

/// Another key of the same kind that an app has.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct OtherKey {
    /// The app's name.
    pub app: String,
    /// What in the cabinet holds the key.
    pub keystore: String,
}

/// The other keys of the same kind that these apps have.
pub(crate) fn others(inventory: &Inventory, apps: &[String], role: Role, key: &str) -> Vec<OtherKey> {
    let mut out = Vec::new();
    for app in apps {
        for (item, entry) in inventory.android_keys(app, role) {
            let is_other = key_facts(inventory, entry).is_some_and(|facts| facts.fingerprint != key);
            let other = OtherKey { app: app.clone(), keystore: item.name.clone() };
            if is_other && !out.contains(&other) {
                out.push(other);
            }
        }
    }
    out
}

/// What a key is for, in any keystore, by app.
pub(crate) fn uses_of_key(inventory: &Inventory, key: &ItemId) -> Vec<Use> {
    let entries = inventory.keystores().into_iter().flat_map(|(_, facts)| facts.entries.iter());
    let mut uses: Vec<Use> =
        entries.filter(|entry| entry.key == *key).flat_map(|entry| entry.uses.iter().cloned()).collect();
    uses.sort();
    uses.dedup();
    uses
}
