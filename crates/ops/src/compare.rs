//! `compare`: do two things carry the same key? By fingerprint, never by name.

use std::collections::BTreeMap;
use std::path::Path;

use ninekeys_cabinet::CabinetError;
use ninekeys_core::android::{SchemeState, Signatures};
use ninekeys_core::build::{Build, Inside};
use ninekeys_core::digest::from_hex;
use ninekeys_core::ios::package::IosBuild;
use ninekeys_core::keystore::{self, KeystoreError as FormatError, OpenStore};
use ninekeys_core::model::{Facts, IdentityFacts, Inventory, Item, NotFound, Seen};
use ninekeys_core::stream::DigestError;
use ninekeys_formats::keystore::recognise;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::secret::SecretText;
use ninekeys_formats::source::Source;
use ninekeys_formats::x509::Certificate;
use ninekeys_formats::zip::ZipError;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::{CertificateSaid, KeySaid};
use crate::ask::{self, AskError};
use crate::build::check::{CheckError, file_name};
use crate::build::difference::{Compared, Difference};
use crate::build::input::Input;
use crate::ctx::{Ctx, OpenError};
use crate::files::FileError;
use crate::identity;

/// What two things have in common, the least first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Sameness {
    /// No key.
    Nothing,
    /// A signature does not hold: what a build carries is not proved to be its signer's.
    Unproved,
    /// Some of a build's signers, not all.
    Part,
    /// A key, under another certificate or where there is none to compare.
    Key,
    /// A certificate, and so its key.
    Certificate,
}

/// What was compared.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CompareReport {
    /// The most that they have in common.
    pub same: Sameness,
    /// The first.
    pub one: Side,
    /// The second.
    pub other: Side,
    /// What they share.
    pub pairs: Vec<Pair>,
    /// What is other in the second than in the first, of two builds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub difference: Option<Difference>,
}

impl CompareReport {
    /// Whether nothing that a device or a store compares differs: under another certificate a key is another identity.
    pub fn is_same(&self) -> bool {
        let bare = |side: &Side| side.keys.iter().all(|key| key.certificate.is_none());
        match self.same {
            Sameness::Certificate => true,
            Sameness::Key => bare(&self.one) || bare(&self.other),
            Sameness::Nothing | Sameness::Unproved | Sameness::Part => false,
        }
    }
}

/// Something that both carry.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Pair {
    /// Its label in the first.
    pub one: String,
    /// Its label in the second.
    pub other: String,
    /// What of it is the same.
    pub same: Sameness,
}

/// One of the two.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Side {
    /// As it was named.
    pub name: String,
    /// What it is.
    pub kind: String,
    /// The keys it carries.
    pub keys: Vec<Carried>,
    /// What has to be known of it: a signature that does not hold, certificates that were not proved.
    pub notes: Vec<String>,
    /// Whether all of its keys together are one identity: a build's signers. Of a keystore one is enough.
    #[serde(skip)]
    whole: bool,
    /// Whether a signature in it does not hold.
    #[serde(skip)]
    broken: bool,
    /// The build that it is.
    #[serde(skip)]
    build: Option<Looked>,
}

/// What is compared of a build beside its signers.
#[derive(Debug)]
struct Looked {
    size: u64,
    is_packed: bool,
    seen: Seen,
    folders: BTreeMap<String, u64>,
}

impl Looked {
    fn compared(&self) -> Compared<'_> {
        Compared {
            size: self.size,
            is_packed: self.is_packed,
            seen: Some(&self.seen),
            folders: &self.folders,
        }
    }
}

/// A key that something carries.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Carried {
    /// The alias, the scheme, or the certificate's subject.
    pub label: String,
    /// The key.
    pub key: KeySaid,
    /// Its certificate; none where there is only a key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub certificate: Option<CertificateSaid>,
}

/// Why they were not compared.
#[derive(Debug, Error)]
pub enum CompareError {
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet could not be read.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// Neither a file nor an item.
    #[error("there is no file {0}, and nothing in the cabinet either")]
    NotFound(String),
    /// It carries no key.
    #[error(
        "{0} carries no key: it is neither a keystore, a certificate, a signed build nor an item with a key"
    )]
    NoKey(String),
    /// A keystore.
    #[error("{0}: {1}")]
    Keystore(String, #[source] FormatError),
    /// A keystore that shows nothing without its password.
    #[error("{0} shows its certificates only to its password, and there is no terminal to ask for it on")]
    NobodyToAsk(String),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// An archive that cannot be read.
    #[error("{0}: {1}")]
    Zip(String, #[source] ZipError),
    /// A build that cannot be looked at.
    #[error("{0}: {1}")]
    Build(String, #[source] Box<CheckError>),
    /// Reading failed, or the user stopped.
    #[error(transparent)]
    Digest(#[from] DigestError),
}

/// Compares two things: files by their content, anything else by its name in the cabinet.
///
/// # Errors
/// [`CompareError`].
pub fn compare(
    ctx: &Ctx<'_>,
    one: &str,
    other: &str,
    password: Option<&SecretText>,
) -> Result<CompareReport, CompareError> {
    let one = side(ctx, one, password)?;
    let other = side(ctx, other, password)?;
    let difference = match (&one.build, &other.build) {
        (Some(one), Some(other)) => Some(other.compared().difference(Some(one.compared()))),
        _ => None,
    };
    // two builds have more to compare than who signed them
    let empty = [&one, &other].into_iter().find(|side| side.keys.is_empty());
    if let Some(side) = empty.filter(|_| difference.is_none()) {
        return Err(CompareError::NoKey(file_name(Path::new(&side.name))));
    }
    let mut pairs = Vec::new();
    for a in &one.keys {
        for b in &other.keys {
            let same = sameness(a, b);
            if same > Sameness::Nothing {
                pairs.push(Pair { one: a.label.clone(), other: b.label.clone(), same });
            }
        }
    }
    let same = same_together(&one, &other);
    Ok(CompareReport { same, one, other, pairs, difference })
}

/// What two things have in common, all that has to be looked at taken together.
fn same_together(one: &Side, other: &Side) -> Sameness {
    let best = |key: &Carried, keys: &[Carried]| {
        keys.iter().map(|other| sameness(key, other)).max().unwrap_or(Sameness::Nothing)
    };
    let of = |side: &Side, against: &Side| -> Vec<Sameness> {
        side.keys.iter().map(|key| best(key, &against.keys)).collect()
    };
    let (ones, others) = (of(one, other), of(other, one));
    let most = ones.iter().max().copied().unwrap_or(Sameness::Nothing);
    if most == Sameness::Nothing {
        return most;
    }
    if one.broken || other.broken {
        return Sameness::Unproved;
    }
    let has_to_be = ones.iter().filter(|_| one.whole).chain(others.iter().filter(|_| other.whole));
    match has_to_be.min() {
        Some(Sameness::Nothing) => Sameness::Part,
        Some(least) => *least,
        None => most,
    }
}

fn sameness(a: &Carried, b: &Carried) -> Sameness {
    let certificate = |carried: &Carried| carried.certificate.as_ref().map(|one| one.sha256.clone());
    if certificate(a).is_some() && certificate(a) == certificate(b) {
        Sameness::Certificate
    } else if a.key.sha256 == b.key.sha256 {
        Sameness::Key
    } else {
        Sameness::Nothing
    }
}

fn side(ctx: &Ctx<'_>, name: &str, password: Option<&SecretText>) -> Result<Side, CompareError> {
    let path = ctx.path(Path::new(name));
    if !path.exists() {
        return item_side(ctx, name);
    }
    let input = Input::open(&path)?;
    let source = match &input {
        Input::File(source) => source,
        Input::Folder(_) => return build_side(ctx, name, &input),
    };
    let head = source.bytes(0..source.len().min(4), 4).unwrap_or_default();
    if head.starts_with(b"PK") {
        return build_side(ctx, name, &input);
    }
    let limit = Limits::USUAL.keystore;
    let bytes = source.bytes(0..source.len(), limit).map_err(|e| FileError::new("read", &path, e.cause))?;
    match recognise(&bytes) {
        Some(_) => keystore_side(ctx, name, &bytes, password),
        None => Ok(certificate_side(name, &bytes)),
    }
}

fn carried(label: String, certificate: &Certificate) -> Carried {
    Carried { label, key: KeySaid::from(certificate), certificate: Some(CertificateSaid::from(certificate)) }
}

fn certificate_side(name: &str, bytes: &[u8]) -> Side {
    let blocks = pem::blocks(bytes, pem::CERTIFICATE, &Limits::USUAL);
    let ders = if blocks.is_empty() { vec![bytes.to_vec()] } else { blocks };
    let certificates = ders.iter().filter_map(|der| Certificate::parse(der, &Limits::USUAL).ok());
    let keys = certificates.map(|certificate| carried(certificate.subject.clone(), &certificate)).collect();
    Side {
        name: name.into(),
        kind: "certificate".into(),
        keys,
        notes: Vec::new(),
        whole: false,
        broken: false,
        build: None,
    }
}

fn keystore_side(
    ctx: &Ctx<'_>,
    name: &str,
    bytes: &[u8],
    password: Option<&SecretText>,
) -> Result<Side, CompareError> {
    let failed = |error| CompareError::Keystore(name.into(), error);
    let mut notes = Vec::new();
    let shown = |store: &OpenStore| -> Vec<Carried> {
        let certificate = |key: &keystore::StoredKey| key.certificate(&Limits::USUAL);
        let keys = store.keys.iter().filter_map(|key| Some(carried(key.alias.clone(), &certificate(key)?)));
        let mut keys: Vec<Carried> = keys.collect();
        if keys.is_empty() {
            // a store of certificates alone needs no password to show them
            let lone =
                store.certificates.iter().filter_map(|der| Certificate::parse(der, &Limits::USUAL).ok());
            keys.extend(lone.map(|certificate| carried(certificate.subject.clone(), &certificate)));
        }
        keys
    };
    let store = match password {
        Some(password) => keystore::open(bytes, password, &Limits::USUAL).map_err(failed)?,
        None => {
            let store = keystore::peek(bytes, &Limits::USUAL).map_err(failed)?;
            if shown(&store).is_empty() {
                let tried = ask::open_asking(
                    ctx.ask,
                    &format!("Password of {name}"),
                    "This password does not open it; once more",
                    |password| keystore::open(bytes, &password, &Limits::USUAL),
                    |error| matches!(error, FormatError::WrongStorePassword),
                )?;
                let tried = tried.ok_or_else(|| CompareError::NobodyToAsk(name.into()))?;
                tried.map_err(failed)?
            } else {
                notes.push(
                    "its certificates were read without its password: nothing proves that they are its own"
                        .into(),
                );
                store
            }
        }
    };
    let kind = format!("{} keystore", store.format);
    Ok(Side { name: name.into(), kind, keys: shown(&store), notes, whole: false, broken: false, build: None })
}

/// Who signed a build, and what is compared of it beside that.
fn build_side(ctx: &Ctx<'_>, name: &str, input: &Input) -> Result<Side, CompareError> {
    let build = input.examine(None, &ctx.env).map_err(|error| match error {
        CheckError::Zip(error) => CompareError::Zip(name.into(), error),
        CheckError::Digest(error) => error.into(),
        other => CompareError::Build(name.into(), Box::new(other)),
    })?;
    let (keys, mut notes) = match &build.inside {
        Inside::Android(inside) => android_keys(&inside.signatures),
        Inside::Ios(inside) => ios_keys(&build, inside),
    };
    let broken = !notes.is_empty();
    if keys.is_empty() && !broken {
        notes.push("it is not signed".into());
    }
    let looked = Looked {
        size: build.size,
        is_packed: matches!(input, Input::File(_)),
        seen: build.seen(),
        folders: build.folders.clone(),
    };
    let kind = if keys.is_empty() { "build" } else { "signed build" };
    Ok(Side { name: name.into(), kind: kind.into(), keys, notes, whole: true, broken, build: Some(looked) })
}

fn android_keys(signatures: &Signatures) -> (Vec<Carried>, Vec<String>) {
    let mut keys: Vec<Carried> = Vec::new();
    for signer in &signatures.signers {
        let label = signer.scheme.to_string();
        let same = |known: &&mut Carried| {
            known.certificate.as_ref().is_some_and(|one| one.sha256 == signer.certificate_fingerprint)
        };
        match keys.iter_mut().find(same) {
            Some(known) => known.label = format!("{}, {label}", known.label),
            None => keys.push(carried(label, &signer.certificate)),
        }
    }
    let broken = signatures.schemes.iter().filter(|report| report.state != SchemeState::Verified);
    let mut notes: Vec<String> =
        broken.map(|report| format!("its signature of scheme {} does not hold", report.scheme)).collect();
    notes.extend(
        signatures.stripped.iter().map(|scheme| format!("its signature of scheme {scheme} was taken out")),
    );
    (keys, notes)
}

/// Who signed an app for iOS, and what is inside it.
fn ios_keys(build: &Build, inside: &IosBuild) -> (Vec<Carried>, Vec<String>) {
    let label = |index: usize| if index == 0 { "app".to_owned() } else { "something inside it".to_owned() };
    let signers = build.signers.iter().enumerate();
    let keys: Vec<Carried> =
        signers.map(|(index, signer)| carried(label(index), &signer.certificate)).collect();
    let faults = inside.executables().filter(|executable| {
        !executable.is_signed() || executable.signatures().any(|signed| !signed.faults.is_empty())
    });
    // what nobody signed has no signature that could be broken
    let faults = faults.filter(|_| !keys.is_empty());
    let mut notes: Vec<String> =
        faults.map(|executable| format!("the signature of {} does not hold", executable.path)).collect();
    let many = notes.len();
    notes.truncate(MOST_NOTES);
    notes.extend((many > MOST_NOTES).then(|| format!("and {} signatures more", many - MOST_NOTES)));
    (keys, notes)
}

/// The most signatures of one build that are named.
const MOST_NOTES: usize = 5;

fn item_side(ctx: &Ctx<'_>, name: &str) -> Result<Side, CompareError> {
    let inventory = match ctx.open() {
        Ok(cabinet) => cabinet.inventory()?,
        Err(OpenError::Project(_)) => return Err(CompareError::NotFound(name.into())),
        Err(error) => return Err(error.into()),
    };
    let item = match inventory.find(name) {
        Ok(item) => item,
        Err(NotFound::Unknown(_)) => return Err(CompareError::NotFound(name.into())),
        Err(error) => return Err(CabinetError::from(error).into()),
    };
    let keys = item_keys(&inventory, item);
    if keys.is_empty() {
        return Err(CompareError::NoKey(item.name.clone()));
    }
    Ok(Side {
        name: item.name.clone(),
        kind: format!("{} in the cabinet", item.facts.word()),
        keys,
        notes: Vec::new(),
        whole: false,
        broken: false,
        build: None,
    })
}

/// The key of an identity: by its certificate, else by itself or by the request that it was asked for with.
fn identity_key(inventory: &Inventory, facts: &IdentityFacts, name: &str) -> Vec<Carried> {
    let certificate = facts.certificate.as_ref().and_then(|id| identity::certificate_facts(inventory, id));
    if let Some(certificate) = certificate.and_then(identity::parsed) {
        return vec![carried(name.into(), &certificate)];
    }
    let own = facts.key.as_ref().and_then(|id| identity::key_facts(inventory, id)).map(KeySaid::from);
    let key = own.or_else(|| identity::asked_key(facts));
    key.map(|key| Carried { label: name.into(), key, certificate: None }).into_iter().collect()
}

fn item_keys(inventory: &Inventory, item: &Item) -> Vec<Carried> {
    let of_certificate = |id, label: &str| match inventory.get(id).map(|item| &item.facts) {
        Some(Facts::Certificate(facts)) => {
            let certificate = Certificate::parse(&from_hex(&facts.der)?, &Limits::USUAL).ok()?;
            Some(carried(label.into(), &certificate))
        }
        _ => None,
    };
    match &item.facts {
        Facts::Keystore(facts) => {
            facts.entries.iter().filter_map(|e| of_certificate(&e.certificate, &e.alias)).collect()
        }
        Facts::Certificate(facts) => of_certificate(&item.id, &facts.subject).into_iter().collect(),
        Facts::Identity(facts) => identity_key(inventory, facts, &item.name),
        Facts::Key(facts) => {
            let certificates = inventory.iter().filter(
                |other| matches!(&other.facts, Facts::Certificate(certificate) if certificate.key == Some(item.id)),
            );
            let mut all: Vec<Carried> =
                certificates.filter_map(|other| of_certificate(&other.id, &item.name)).collect();
            if all.is_empty() {
                all.push(Carried { label: item.name.clone(), key: KeySaid::from(facts), certificate: None });
            }
            all
        }
        _ => Vec::new(),
    }
}
