//! `keystore deposit` and `keystore replace-upload`: the store holds an Android app's signing key from now on, and knows who uploads.

use base64ct::{Base64, Encoding};
use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::digest::{from_hex, hex, sha1};
use ninekeys_core::envelope::{self, EnvelopeError};
use ninekeys_core::keys::{KeyError, PrivateKey, PublicKey};
use ninekeys_core::keystore::UnlockedKey;
use ninekeys_core::model::{
    Android, ApiUse, Destination, Inventory, Item as CabinetItem, KeystoreEntry, Role, key_called,
};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::SecretBytes;
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::{Deposit, Held, NewUploadKey, Origin};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;
use toml_edit::{InlineTable, Item, Table, TableLike, value};

use super::{StoreRefusal, meant, refusal, store_keys};
use crate::answers::CertificateSaid;
use crate::ask::AskError;
use crate::build::material::{self, SignerError};
use crate::ctx::{Ctx, OpenError};
use crate::keystore::import::{FromFile, ImportError, open_one};
use crate::keystore::{self, FindError};
use crate::portal::{ConnectError, with_store};
use crate::project::{ProjectError, ProjectFile};

/// Where the signing key comes from that the store is to hold.
#[derive(Debug)]
pub enum From {
    /// From the cabinet: the app's signing key, or the one of this keystore.
    Cabinet {
        /// The keystore, where there are several.
        keystore: Option<String>,
    },
    /// From a keystore file; the cabinet does not keep it.
    File(FromFile),
    /// The store makes it.
    Store,
    /// It is the one that the store holds for another app.
    App(String),
}

/// What the store is to hold.
#[derive(Debug)]
pub struct DepositRequest {
    /// The app.
    pub app: String,
    /// The signing key.
    pub from: From,
    /// The keystore with the upload key, where there are several.
    pub upload: Option<String>,
    /// Whether nobody is asked.
    pub sure: bool,
}

/// Another upload key.
#[derive(Debug)]
pub struct ReplaceRequest {
    /// The app.
    pub app: String,
    /// The keystore with the new one.
    pub key: String,
    /// Whether nobody is asked.
    pub sure: bool,
}

/// The keys of an app as the store has them.
#[derive(Debug, Serialize, JsonSchema)]
pub struct StoreKeysReport {
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The app.
    pub app: String,
    /// What people call it.
    pub title: String,
    /// Its package.
    pub package: String,
    /// Where the signing key came from.
    pub origin: Origin,
    /// Since when the store signs.
    pub since: Timestamp,
    /// The certificate that devices see.
    pub signing: CertificateSaid,
    /// SHA-1 of it, which registration pages ask for.
    pub signing_sha1: String,
    /// The certificate that builds are uploaded with.
    pub upload: CertificateSaid,
    /// The one that takes its place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next_upload: Option<NextUploadSaid>,
    /// Whether it was so before.
    pub known: bool,
    /// The time of the answer.
    pub at: Timestamp,
}

/// An upload key that waits.
#[derive(Debug, Serialize, JsonSchema)]
pub struct NextUploadSaid {
    /// Its certificate.
    pub certificate: CertificateSaid,
    /// From when on it counts, and the one before it no more.
    pub from: Timestamp,
}

/// Why the store's keys are as they were.
#[derive(Debug, Error)]
pub enum StoreKeysError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The store has done it, and the project file does not say so.
    #[error("the store has done it, and the project file does not say so")]
    Unkept(#[source] Box<StoreKeysError>),
    /// It has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The app has no Android side.
    #[error("{0} has no Android side, and the keys of an iOS app stay with the team")]
    NotAndroid(String),
    /// No signing key, or several.
    #[error(transparent)]
    Signer(#[from] SignerError),
    /// The file that it was to come from.
    #[error(transparent)]
    Import(#[from] Box<ImportError>),
    /// No upload key beside it.
    #[error(
        "the cabinet holds no upload key for {0}: without one nobody could bring the store a build any more"
    )]
    NoUploadKey(String),
    /// Several, and nobody said which.
    #[error("the cabinet holds several upload keys for {app}: {}", names.join(", "))]
    SeveralUploadKeys {
        /// The app.
        app: String,
        /// Their keystores.
        names: Vec<String>,
    },
    /// The keystore that was named.
    #[error(transparent)]
    Find(#[from] FindError),
    /// Its key is no upload key of the app.
    #[error("{keystore} holds no upload key for {app}")]
    NotForUploads {
        /// The keystore.
        keystore: String,
        /// The app.
        app: String,
    },
    /// Nobody said yes.
    #[error("{0}, and nobody said yes")]
    NotSure(String),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The key could not be encrypted to the store's.
    #[error(transparent)]
    Envelope(#[from] EnvelopeError),
    /// The store's key cannot be used.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The store cannot be asked.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The store did not do it.
    #[error(transparent)]
    Store(PortalError),
    /// It does not take it.
    #[error(transparent)]
    Refused(#[from] StoreRefusal),
    /// The store holds another key than the one that was handed over.
    #[error("the store says that it holds the certificate {found}, and {wanted} was handed over")]
    OtherKey {
        /// SHA-256 of what it says.
        found: String,
        /// SHA-256 of what was handed over.
        wanted: String,
    },
}

impl std::convert::From<PortalError> for StoreKeysError {
    fn from(error: PortalError) -> Self {
        refusal(error).map_or_else(Self::Store, Self::Refused)
    }
}

/// An app with an Android side.
fn android<'f>(file: &'f ProjectFile, app: &str) -> Result<(&'f str, &'f str, &'f Android), StoreKeysError> {
    let found = file.project.app(app).ok_or_else(|| StoreKeysError::UnknownApp(app.into()))?;
    let android =
        found.1.android.as_ref().ok_or_else(|| StoreKeysError::NotAndroid(found.1.title.clone()))?;
    Ok((found.0, &found.1.title, android))
}

/// Gives the store the signing key of an app to hold. A store that holds it already says so, and nothing is changed.
///
/// # Errors
/// [`StoreKeysError`]; the cabinet keeps its keys in any case.
pub fn deposit(ctx: &Ctx<'_>, request: &DepositRequest) -> Result<StoreKeysReport, StoreKeysError> {
    let file = ctx.project_file()?;
    let (name, _, own) = android(&file, &request.app)?;
    let mut cabinet = ctx.open_unlocked()?;
    let asked = |cabinet: &Cabinet<'_>| {
        with_store(ctx, cabinet, &file, (ApiUse::Signing, Some(name)), |store| {
            Ok::<_, StoreKeysError>(store.keys(&own.package)?)
        })
    };
    if let Some(held) = asked(&cabinet)? {
        return keep(ctx, &file, name, &held, (true, None));
    }
    let inventory = cabinet.inventory()?;
    let (uploads, upload) = upload_key(&inventory, &file, name, request.upload.as_deref())?;
    let upload = certificate_of(&inventory, upload)?;
    let (origin, given) = match &request.from {
        From::File(from) => {
            (Origin::HandedOver, Some(Given::of_file(open_one(ctx, from).map_err(Box::new)?)?))
        }
        From::Cabinet { keystore } => {
            let (item, entry) = material::choose_key(
                &inventory,
                (&file.project, ctx.env.now),
                (name, Destination::Direct),
                keystore.as_deref(),
            )?;
            let called = key_called(&item.name, &entry.alias);
            let gone = || CabinetError::Tampered(format!("the key of {} is gone", entry.alias));
            let secret = cabinet.secret(inventory.get(&entry.key).ok_or_else(gone)?)?;
            let certificate = certificate_of(&inventory, entry)?;
            (Origin::HandedOver, Some(Given { called, secret, certificate }))
        }
        From::Store => (Origin::MadeByStore, None),
        From::App(other) => (Origin::OfApp(android(&file, other)?.2.package.clone()), None),
    };
    make_sure(ctx, request.sure, &warning(name, &request.from))?;
    let store = meant(ctx);
    let what = match &given {
        Some(given) => format!("keystore deposit {} of {name} at {store}", given.called),
        None => format!("keystore deposit of {name} at {store}"),
    };
    // what leaves is written down first
    cabinet.change(&what, &ctx.env, |_| Ok::<_, CabinetError>(()))?;
    let certificate = given.as_ref().map(|given| given.certificate.as_slice());
    let held = with_store(ctx, &cabinet, &file, (ApiUse::Signing, Some(name)), |store| {
        let message = match &given {
            Some(given) => Some(encrypted(ctx, &given.secret, &store.receiving_key()?)?),
            None => None,
        };
        let deposit = Deposit {
            origin,
            message: message.map(|message| Base64::encode_string(&message)),
            certificate: certificate.map(Base64::encode_string),
            upload: Base64::encode_string(&upload),
        };
        Ok::<_, StoreKeysError>(store.deposit(&own.package, &deposit)?)
    })?;
    let (found, wanted) = (read(&held.signing)?, certificate.map(parse).transpose()?);
    if let Some(wanted) = wanted.filter(|wanted| wanted.sha256 != found.0.sha256) {
        return Err(StoreKeysError::OtherKey { found: found.0.sha256, wanted: wanted.sha256 });
    }
    keep(ctx, &file, name, &held, (false, Some(&uploads.name)))
}

/// Has the store take another upload key, after a time of waiting.
///
/// # Errors
/// [`StoreKeysError`].
pub fn replace_upload(ctx: &Ctx<'_>, request: &ReplaceRequest) -> Result<StoreKeysReport, StoreKeysError> {
    let file = ctx.project_file()?;
    let (name, _, own) = android(&file, &request.app)?;
    let mut cabinet = ctx.open_unlocked()?;
    let inventory = cabinet.inventory()?;
    let (uploads, entry) = upload_key(&inventory, &file, name, Some(&request.key))?;
    let certificate = Base64::encode_string(&certificate_of(&inventory, entry)?);
    let question =
        format!("{} uploads the builds of {name} after a time of waiting, and no other key", request.key);
    make_sure(ctx, request.sure, &question)?;
    let what = format!("keystore replace-upload of {name}: {} at {}", request.key, meant(ctx));
    cabinet.change(&what, &ctx.env, |_| Ok::<_, CabinetError>(()))?;
    let (before, held) = with_store(ctx, &cabinet, &file, (ApiUse::Signing, Some(name)), |store| {
        let before = store.keys(&own.package)?;
        Ok::<_, StoreKeysError>((before, store.replace_upload(&own.package, &NewUploadKey { certificate })?))
    })?;
    let known = before.is_some_and(|before| before == held);
    // until it counts, what goes there is signed with the one before it
    let uploads = held.next_upload.is_none().then_some(uploads.name.as_str());
    keep(ctx, &file, name, &held, (known, uploads))
}

/// What somebody should know who says yes.
fn warning(app: &str, from: &From) -> String {
    match from {
        From::Cabinet { .. } | From::File(_) => {
            format!("The store signs {app} from now on, with a copy of its key that it gives to nobody")
        }
        From::Store => format!(
            "The store makes the signing key of {app}, and nobody else has it: {app} can be handed to people in no other way"
        ),
        From::App(other) => format!(
            "{app} gets the signing key of {other}: devices take the two for one maker's, they may share what they store, \
             and whoever gets hold of the key has both"
        ),
    }
}

fn make_sure(ctx: &Ctx<'_>, sure: bool, what: &str) -> Result<(), StoreKeysError> {
    if sure {
        return Ok(());
    }
    match ctx.ask.sure(&format!("{what}. Go on"))? {
        Some(true) => Ok(()),
        Some(false) => Err(AskError::Declined.into()),
        None => Err(StoreKeysError::NotSure(what.to_owned())),
    }
}

/// The upload key of an app: the one that is named, or that the project file names for the store.
fn upload_key<'a>(
    inventory: &'a Inventory,
    file: &ProjectFile,
    app: &str,
    named: Option<&str>,
) -> Result<(&'a CabinetItem, &'a KeystoreEntry), StoreKeysError> {
    let at_store = file.project.store_signers(app);
    if let Some(named) = named.or(at_store.own) {
        let (item, facts) = keystore::find(inventory, named)?;
        // one that a rotation made is for no app yet
        let is_new = |entry: &&KeystoreEntry| entry.role == Role::Upload && entry.uses.is_empty();
        let for_app = facts.entries.iter().find(|entry| entry.is_for(app, Role::Upload));
        let found = for_app.or_else(|| facts.entries.iter().find(is_new));
        let found = found.map(|entry| (item, entry));
        return found
            .ok_or_else(|| StoreKeysError::NotForUploads { keystore: item.name.clone(), app: app.into() });
    }
    let mut all: Vec<(&CabinetItem, &KeystoreEntry)> = Vec::new();
    let keys = inventory.android_keys(app, Role::Upload);
    for (item, entry) in keys.filter(|(item, _)| !at_store.is_elsewhere(&item.name)) {
        if !all.iter().any(|(_, known)| known.key == entry.key) {
            all.push((item, entry));
        }
    }
    match all.as_slice() {
        [] => Err(StoreKeysError::NoUploadKey(app.into())),
        [one] => Ok(*one),
        many => Err(StoreKeysError::SeveralUploadKeys {
            app: app.into(),
            names: many.iter().map(|(item, _)| item.name.clone()).collect(),
        }),
    }
}

fn certificate_of(inventory: &Inventory, entry: &KeystoreEntry) -> Result<Vec<u8>, StoreKeysError> {
    let gone = || CabinetError::Tampered(format!("the certificate of {} is gone", entry.alias));
    let facts = keystore::certificate_of(inventory, entry).ok_or_else(gone)?;
    Ok(from_hex(&facts.der).ok_or_else(gone)?)
}

/// A signing key that is handed over.
struct Given {
    /// What it is called in the history.
    called: String,
    /// PKCS#8.
    secret: SecretBytes,
    /// Its certificate, DER.
    certificate: Vec<u8>,
}

impl Given {
    /// One out of a file, which has to be a key that signs.
    fn of_file((alias, key): (String, UnlockedKey)) -> Result<Self, StoreKeysError> {
        key.secret.lend(|der| PrivateKey::from_pkcs8(der))?;
        let called = format!("{alias} out of a file");
        Ok(Given { called, secret: key.secret, certificate: key.certificate.der })
    }
}

fn encrypted(ctx: &Ctx<'_>, secret: &SecretBytes, receiver: &[u8]) -> Result<Vec<u8>, StoreKeysError> {
    let receiver = Certificate::parse(receiver, &Limits::USUAL)
        .map_err(|_| StoreKeysError::Store(PortalError::Answer("the key that the store receives by")))?;
    let receiver = PublicKey::from_der(&receiver.public_key)?;
    Ok(envelope::close(&receiver, secret, &ctx.env)?)
}

fn parse(der: &[u8]) -> Result<CertificateSaid, StoreKeysError> {
    let wrong = || StoreKeysError::Store(PortalError::Answer("a certificate"));
    Ok(CertificateSaid::from(&Certificate::parse(der, &Limits::USUAL).map_err(|_| wrong())?))
}

/// A certificate that the store told, and its SHA-1.
fn read(certificate: &str) -> Result<(CertificateSaid, String), StoreKeysError> {
    let wrong = || StoreKeysError::Store(PortalError::Answer("a certificate"));
    let der = Base64::decode_vec(certificate).map_err(|_| wrong())?;
    Ok((parse(&der)?, hex(&sha1(&der))))
}

/// Writes into the project file what the store has, so that checks and colleagues know it, and tells it.
fn keep(
    ctx: &Ctx<'_>,
    file: &ProjectFile,
    app: &str,
    held: &Held,
    (known, uploads): (bool, Option<&str>),
) -> Result<StoreKeysReport, StoreKeysError> {
    let (_, title, own) = android(file, app)?;
    let (signing, signing_sha1) = read(&held.signing)?;
    let (upload, _) = read(&held.upload)?;
    let next = held.next_upload.as_ref();
    let next = next.map(|next| read(&next.certificate).map(|(certificate, _)| (certificate, next.from)));
    let next_upload = next.transpose()?.map(|(certificate, from)| NextUploadSaid { certificate, from });
    let says = store_keys(held);
    let at = file.project.at_store.as_ref();
    // of several stores each is said which keystore signs for it
    let uploads = uploads.filter(|name| at.is_some() && file.project.store_signers(app).own != Some(name));
    if own.store_keys.as_ref() != Some(&says) || uploads.is_some() {
        let kept = file.change(ctx, |_, document| write(document, file, app, (&says, uploads)));
        kept.map_err(|error: StoreKeysError| StoreKeysError::Unkept(Box::new(error)))?;
    }
    Ok(StoreKeysReport {
        store: ctx.store.clone(),
        app: app.to_owned(),
        title: title.to_owned(),
        package: own.package.clone(),
        origin: held.origin.clone(),
        since: held.since,
        signing,
        signing_sha1,
        upload,
        next_upload,
        known,
        at: ctx.env.now,
    })
}

fn write(
    document: &mut toml_edit::DocumentMut,
    file: &ProjectFile,
    app: &str,
    (says, uploads): (&ninekeys_core::model::StoreKeys, Option<&str>),
) -> Result<(), StoreKeysError> {
    let malformed = || ProjectError::Malformed {
        path: file.path.display().to_string(),
        reason: format!("`app.{app}` is not a table"),
    };
    let side = document.get_mut("app").and_then(|apps| {
        let own = apps.as_table_like_mut()?.get_mut(app)?.as_table_like_mut()?;
        let side = own.get_mut("android")?.as_table_like_mut()?;
        let Some(store) = &file.project.at_store else { return Some(side) };
        let stores = below(side, "store")?;
        below(stores, store.as_str())
    });
    let side = side.ok_or_else(malformed)?;
    if let Some(uploads) = uploads {
        side.insert("key", value(uploads));
    }
    let mut table = Table::new();
    table.insert("signing", value(says.signing.as_str()));
    table.insert("upload", value(says.upload.as_str()));
    if let Some(next) = &says.next_upload {
        let mut own = InlineTable::new();
        own.insert("certificate", next.certificate.as_str().into());
        own.insert("from", next.from.to_string().into());
        table.insert("next-upload", value(own));
    }
    side.insert("store-keys", Item::Table(table));
    Ok(())
}

/// The table of that name in one, made where there is none.
fn below<'t>(table: &'t mut dyn TableLike, name: &str) -> Option<&'t mut dyn TableLike> {
    let mut made = Table::new();
    made.set_implicit(true);
    table.entry(name).or_insert(Item::Table(made)).as_table_like_mut()
}
