//! Which key signs: found by app and destination, or named; and that key, ready to sign.

use std::collections::BTreeMap;

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::android::Lineage;
use ninekeys_core::digest::from_hex;
use ninekeys_core::ios::setup::PassedOver;
use ninekeys_core::ios::sign::Embedded;
use ninekeys_core::keys::{KeyError, PrivateKey};
use ninekeys_core::model::{
    Destination, Facts, Inventory, Item, ItemId, KeystoreEntry, KeystoreFacts, Project, Role, State, TookOver,
};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::x509::Certificate;
use thiserror::Error;

use crate::answers::{CertificateSaid, KeySaid};
use crate::build::identity_material::ProfileUsed;
use crate::keystore;

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
    #[error("{name} is {found}, not a keystore")]
    NotAKeystore {
        /// Its name.
        name: String,
        /// What it is.
        found: String,
    },
    /// What the project file names for a store is none.
    #[error(
        "the project file names {name} to sign what goes to {store}, and no keystore that is in use is called so"
    )]
    NotForTheStore {
        /// What it names.
        name: String,
        /// The store.
        store: String,
    },
    /// The private key cannot be used.
    #[error(transparent)]
    Key(#[from] KeyError),
}

/// What signs, as its platform has it.
pub(crate) enum MaterialKind {
    /// A key of a keystore.
    Keystore {
        /// Its alias.
        alias: String,
        /// The key that it took over from.
        rotated: Option<Box<Rotated>>,
    },
    /// An identity, with what belongs to it.
    Identity(Box<IdentityMaterial>),
}

/// What belongs to an identity that signs a build.
pub(crate) struct IdentityMaterial {
    /// From its certificate to the root.
    pub(crate) chain: Vec<Certificate>,
    /// The team that it was issued to.
    pub(crate) team: String,
    /// The profile of each bundle, by its path in the build.
    pub(crate) profiles: BTreeMap<String, Embedded>,
    /// The same, as answers say them.
    pub(crate) used: Vec<ProfileUsed>,
    /// What could have been taken and was not.
    pub(crate) passed_over: Vec<PassedOver>,
}

/// What signs: a private key and its certificate, and what they are called where they are kept. A keystore's key on Android;
/// an identity is the same under another roof, with profiles.
pub(crate) struct Material {
    /// The keystore's or the identity's name.
    pub(crate) name: String,
    /// What it is of which platform.
    pub(crate) kind: MaterialKind,
    /// The private key's item.
    pub(crate) key_item: ItemId,
    /// The certificate's item.
    pub(crate) certificate_item: ItemId,
    /// The private key.
    pub(crate) key: PrivateKey,
    /// Its certificate, DER.
    pub(crate) certificate: Vec<u8>,
    /// The key, as answers say it.
    pub(crate) key_said: KeySaid,
    /// The certificate, as answers say it.
    pub(crate) certificate_said: CertificateSaid,
}

impl Material {
    /// The key's alias in its keystore.
    pub(crate) fn alias(&self) -> Option<&str> {
        match &self.kind {
            MaterialKind::Keystore { alias, .. } => Some(alias),
            MaterialKind::Identity(_) => None,
        }
    }

    /// The key that it took over from, of a signing key that did.
    pub(crate) fn rotated(&self) -> Option<&Rotated> {
        match &self.kind {
            MaterialKind::Keystore { rotated, .. } => rotated.as_deref(),
            MaterialKind::Identity(_) => None,
        }
    }

    /// What belongs to the identity that it is.
    pub(crate) fn identity(&self) -> Option<&IdentityMaterial> {
        match &self.kind {
            MaterialKind::Keystore { .. } => None,
            MaterialKind::Identity(identity) => Some(identity),
        }
    }

    /// What an app's builds are signed with for a destination, or what is in the keystore that is named.
    ///
    /// # Errors
    /// [`SignerError`].
    pub(crate) fn choose(
        cabinet: &Cabinet<'_>,
        inventory: &Inventory,
        project: (&Project, Timestamp),
        (app, destination): (&str, Destination),
        named: Option<&str>,
    ) -> Result<Self, SignerError> {
        let (keystore, entry) = choose_key(inventory, project, (app, destination), named)?;
        let gone = || CabinetError::Tampered(format!("the key of {} is gone", entry.alias));
        let item = inventory.get(&entry.key).ok_or_else(gone)?;
        let certificate = keystore::certificate_of(inventory, entry).ok_or_else(gone)?;
        let key_facts = keystore::key_facts(inventory, entry).ok_or_else(gone)?;
        let rotated = entry.after.as_ref().map(|after| Rotated::of(cabinet, inventory, entry, after));
        Ok(Material {
            name: keystore.name.clone(),
            kind: MaterialKind::Keystore { alias: entry.alias.clone(), rotated: rotated.transpose()? },
            key_item: entry.key,
            certificate_item: entry.certificate,
            key: cabinet.secret(item)?.lend(|der| PrivateKey::from_pkcs8(der))?,
            certificate: from_hex(&certificate.der).ok_or_else(gone)?,
            key_said: key_facts.into(),
            certificate_said: certificate.into(),
        })
    }
}

/// The key that one took over from, and the proof.
pub(crate) struct Rotated {
    /// The proof.
    pub(crate) lineage: Lineage,
    /// The first key of it.
    pub(crate) oldest: PrivateKey,
    /// Its certificate, DER.
    pub(crate) oldest_certificate: Vec<u8>,
    /// The platform level from which on the new key counts.
    pub(crate) from_sdk: Option<u32>,
}

impl Rotated {
    fn of(
        cabinet: &Cabinet<'_>,
        inventory: &Inventory,
        entry: &KeystoreEntry,
        after: &TookOver,
    ) -> Result<Box<Self>, SignerError> {
        let gone = || CabinetError::Tampered(format!("the key that {} took over from is gone", entry.alias));
        let lineage = from_hex(&after.lineage).ok_or_else(gone)?;
        let lineage = Lineage::read(&lineage, &Limits::USUAL).map_err(|_| gone())?;
        let item = inventory.get(&after.oldest).ok_or_else(gone)?;
        let certificate = match inventory.get(&after.oldest_certificate).map(|item| &item.facts) {
            Some(Facts::Certificate(certificate)) => from_hex(&certificate.der),
            _ => None,
        };
        Ok(Box::new(Rotated {
            lineage,
            oldest: cabinet.secret(item)?.lend(|der| PrivateKey::from_pkcs8(der))?,
            oldest_certificate: certificate.ok_or_else(gone)?,
            from_sdk: after.from_sdk,
        }))
    }
}

/// The key for an app and a destination: for the store its upload key if there is one, else its signing key. Of several stores each
/// has the one that the project file names for it, and none that it names for another; one that is known to take a certificate alone has
/// that one's key.
pub(crate) fn choose_key<'a>(
    inventory: &'a Inventory,
    (project, now): (&Project, Timestamp),
    (app, destination): (&str, Destination),
    named: Option<&str>,
) -> Result<(&'a Item, &'a KeystoreEntry), SignerError> {
    let at_store = project.store_signers(app);
    let to_store = wanted_role(destination) == Role::Upload;
    if named.is_none()
        && to_store
        && let Some(counts) = that_counts(inventory, (project, now), app)
    {
        return Ok(counts);
    }
    let of_store = at_store.own.filter(|_| to_store && named.is_none()).zip(project.at_store.as_ref());
    if let Some((name, store)) = of_store
        && !inventory.find(name).is_ok_and(signs)
    {
        return Err(SignerError::NotForTheStore { name: name.to_owned(), store: store.to_string() });
    }
    if let Some(named) = named.or(of_store.map(|(name, _)| name)) {
        let item = inventory.find(named).map_err(CabinetError::from)?;
        let Facts::Keystore(facts) = &item.facts else {
            return Err(SignerError::NotAKeystore { name: item.name.clone(), found: item.facts.one() });
        };
        return match named_entry(facts, app, destination) {
            Some(entry) => Ok((item, entry)),
            None => Err(SignerError::NoKey { app: app.into(), role: "signing" }),
        };
    }
    // the same key in several keystores is one key
    let of = |role: Role| -> Vec<_> {
        let mut out: Vec<(&Item, &KeystoreEntry)> = Vec::new();
        let keys = inventory.android_keys(app, role);
        for (item, entry) in
            keys.filter(|(item, _)| role == Role::Signing || !at_store.is_elsewhere(&item.name))
        {
            if !out.iter().any(|(_, known)| known.key == entry.key) {
                out.push((item, entry));
            }
        }
        out
    };
    let upload = if to_store { of(Role::Upload) } else { Vec::new() };
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

/// Whether an item is a keystore that is in use.
fn signs(item: &Item) -> bool {
    item.state == State::Active && matches!(item.facts, Facts::Keystore(_))
}

/// The upload key that the store is known to take now, where the cabinet holds it.
fn that_counts<'a>(
    inventory: &'a Inventory,
    (project, now): (&Project, Timestamp),
    app: &str,
) -> Option<(&'a Item, &'a KeystoreEntry)> {
    let keys = project.apps.get(app)?.android.as_ref()?.store_keys.as_ref()?;
    let wanted = keys.upload_at(now);
    let is_it = |entry: &KeystoreEntry| {
        keystore::certificate_of(inventory, entry)
            .is_some_and(|certificate| certificate.fingerprint == wanted)
    };
    inventory.android_keys(app, Role::Upload).find(|(_, entry)| is_it(entry))
}

/// The key of a keystore that was named: one for the app, of the kind that the destination wants if there is one.
fn named_entry<'a>(
    facts: &'a KeystoreFacts,
    app: &str,
    destination: Destination,
) -> Option<&'a KeystoreEntry> {
    let wanted = wanted_role(destination);
    let own = || facts.entries.iter().filter(|entry| entry.apps().contains(&app));
    own().find(|entry| entry.is_for(app, wanted)).or_else(|| own().next()).or(facts.entries.first())
}

/// The role that signs for a destination; where none is wanted, the app's identity on devices.
fn wanted_role(destination: Destination) -> Role {
    destination.android_role().unwrap_or(Role::Signing)
}
