//! `inspect`: what is in a file, told by its content and not by its name.

mod cabinet;
mod executable;
mod list;
mod loose;
mod profile;

use std::path::Path;

use jiff::Timestamp;
use ninekeys_core::build::Form;
use ninekeys_core::digest::{hex, sha256_hex};
use ninekeys_core::ios::look::{Against, IosLook};
use ninekeys_core::keystore::{self, Format, KeystoreError as FormatError};
use ninekeys_core::model::{Inventory, Platform};
use ninekeys_core::stream::DigestError;
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::keystore::recognise;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::macho::{self, MachoError};
use ninekeys_formats::names::algorithm_name;
use ninekeys_formats::pem;
use ninekeys_formats::secret::{Secret, SecretText};
use ninekeys_formats::source::Source;
use ninekeys_formats::x509::Certificate;
use ninekeys_formats::zip::ZipError;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::{BuildSaid, CertificateSaid, KeySaid};
use crate::build::background::Background;
use crate::build::check::{self, AndroidLines, CheckError, Holder, SignerLine};
use crate::build::input::Input;
use crate::build::ios::IosLines;
use crate::ctx::{Ctx, OpenError};
use crate::files::{FileError, InputFile};
use crate::identity;
use crate::show::{self, ShowError, ShowReport};

pub use cabinet::{CabinetContent, ToProject};
pub use executable::{
    DirectoryContent, ExecutableContent, RequirementContent, SignatureContent, SignedContent, SliceContent,
};
pub use list::{EntitlementsContent, InfoContent};
pub use loose::{EnvelopeContent, KeyContent, RecipientSaid, RequestContent};
pub use profile::ProfileContent;

/// The most of a file that is read as a certificate or a keystore.
const CERTIFICATE_FILE: u64 = Limits::USUAL.keystore;

/// What was found.
#[derive(Debug, Serialize, JsonSchema)]
pub struct InspectReport {
    /// The file, or the item's name.
    pub name: String,
    /// What it is.
    pub content: Content,
    /// The time of the look.
    pub at: Timestamp,
}

/// What a file can be.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub enum Content {
    /// A build.
    Build(Box<BuildContent>),
    /// An executable, a library or a bundle of the iOS side (Mach-O).
    Executable(ExecutableContent),
    /// One certificate or several.
    Certificates {
        /// PEM or DER.
        encoding: &'static str,
        /// The certificates, in file order.
        certificates: Vec<CertificateContent>,
    },
    /// A keystore.
    Keystore(Box<KeystoreContent>),
    /// A private key.
    PrivateKey(Box<KeyContent>),
    /// A public key.
    PublicKey(Box<KeyContent>),
    /// A request for a certificate (PKCS#10).
    Request(Box<RequestContent>),
    /// An encrypted message (CMS): a key that was handed over.
    Envelope(EnvelopeContent),
    /// A provisioning profile.
    Profile(Box<ProfileContent>),
    /// A property list with what an app claims.
    Entitlements(EntitlementsContent),
    /// A property list with what a bundle says of itself.
    Info(Box<InfoContent>),
    /// A cabinet, or a copy of one.
    Cabinet(Box<CabinetContent>),
    /// An item of the cabinet.
    Item(Box<ShowReport>),
}

/// What is in a keystore.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeystoreContent {
    /// PKCS#12 or JKS.
    pub format: Format,
    /// How it is encrypted.
    pub encryption: String,
    /// Whether its password was given, and so everything is proved.
    pub opened: bool,
    /// Its keys.
    pub keys: Vec<KeystoreKey>,
    /// Certificates that belong to no key.
    pub others: Vec<CertificateContent>,
}

/// A key in a keystore.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeystoreKey {
    /// Its alias.
    pub alias: String,
    /// Its certificate, where it can be seen.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub certificate: Option<CertificateContent>,
}

/// Whether a signature is to be believed.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum Vouched {
    /// It holds.
    Holds {
        /// What it leads to, RFC 4514.
        root: String,
        /// Whether the project names that; nothing where it names none.
        #[serde(skip_serializing_if = "Option::is_none")]
        trusted: Option<bool>,
    },
    /// It does not.
    Broken {
        /// Why.
        because: String,
    },
}

/// What may vouch for a signer: the project's roots, and the authorities of the cabinet.
struct Roots {
    roots: Vec<Certificate>,
    pool: Vec<Certificate>,
}

impl Roots {
    fn of(ctx: &Ctx<'_>, inventory: Option<&Inventory>) -> Self {
        let file = ctx.project_if_any().ok().flatten();
        let roots = identity::roots(file.as_ref()).unwrap_or_default();
        let mut pool: Vec<Certificate> = inventory.map(identity::authorities).unwrap_or_default();
        pool.extend(roots.iter().cloned());
        Roots { roots, pool }
    }

    /// Whether that is a root that the project names; nothing where it names none.
    fn trusts(&self, root: &Certificate) -> Option<bool> {
        (!self.roots.is_empty()).then(|| self.roots.iter().any(|known| known.der == root.der))
    }

    /// What leads to that root.
    fn vouch(&self, root: Option<&Certificate>) -> Vouched {
        Vouched::Holds {
            root: root.map(|root| root.subject.clone()).unwrap_or_default(),
            trusted: root.and_then(|root| self.trusts(root)),
        }
    }
}

/// What is in a build.
#[derive(Debug, Serialize, JsonSchema)]
pub struct BuildContent {
    /// Its platform.
    pub platform: Platform,
    /// What kind of file it is.
    pub form: Form,
    /// Its size in bytes.
    pub size: u64,
    /// How many entries it has.
    pub entries: usize,
    /// What it says of itself, if that can be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub says: Option<BuildSaid>,
    /// What is malformed in it.
    pub malformed: Vec<String>,
    /// What only an Android build has.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub android: Option<AndroidLines>,
    /// What only a build for iOS has.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ios: Option<IosLines>,
    /// Who signed it.
    pub signers: Vec<SignerLine>,
    /// Ids of the pairs in its signing block.
    pub block: Vec<String>,
}

/// What is in a certificate.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CertificateContent {
    /// Which it is, and until when it is good.
    #[serde(flatten)]
    pub certificate: CertificateSaid,
    /// RFC 4514.
    pub issuer: String,
    /// Hexadecimal.
    pub serial: String,
    /// The key that it is for.
    pub key: KeySaid,
    /// The algorithm that it is signed with.
    pub signature_algorithm: String,
    /// The item in the cabinet that holds it with its key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// What in the cabinet holds its key under another certificate, where none holds both.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub same_key_as: Option<String>,
}

/// Why it cannot be told what it is.
#[derive(Debug, Error)]
pub enum InspectError {
    /// The file.
    #[error(transparent)]
    File(#[from] FileError),
    /// It looks like an archive and does not open as one.
    #[error(transparent)]
    Zip(#[from] ZipError),
    /// It looks like a certificate and cannot be read as one.
    #[error("the certificate cannot be read: {0}")]
    Certificate(#[from] ParseError),
    /// A keystore that cannot be read.
    #[error(transparent)]
    Keystore(#[from] FormatError),
    /// It looks like an executable and cannot be read as one.
    #[error("the executable cannot be read: {0}")]
    Executable(#[from] MachoError),
    /// It is nothing that is known.
    #[error(
        "it is neither a build (APK, AAB, IPA), an executable (Mach-O), a keystore (PKCS#12, JKS), a cabinet, a provisioning profile, entitlements or an Info.plist, nor a certificate, a request, a key or an encrypted message (PEM or DER)"
    )]
    Unknown,
    /// Neither a file nor an item.
    #[error("there is no file of that name, and nothing in the cabinet either: {0}")]
    NoItem(#[source] Box<ShowError>),
    /// A cabinet that does not hold together.
    #[error(transparent)]
    Cabinet(#[from] OpenError),
    /// Project file or cabinet.
    #[error(transparent)]
    Background(#[from] CheckError),
    /// Reading failed, or the user stopped.
    #[error(transparent)]
    Digest(#[from] DigestError),
}

/// Looks into a file, or at an item of the cabinet when there is no such file.
///
/// # Errors
/// [`InspectError`].
pub fn inspect(
    ctx: &Ctx<'_>,
    name: &Path,
    password: Option<&SecretText>,
) -> Result<InspectReport, InspectError> {
    let path = ctx.path(name);
    let text = name.display().to_string();
    let report = |content| InspectReport { name: text.clone(), content, at: ctx.env.now };
    if !path.exists() {
        let plain = name.components().count() == 1 && !text.contains('.');
        return match show::show(ctx, &text) {
            Ok(item) => Ok(report(Content::Item(Box::new(item)))),
            Err(error) if plain => Err(InspectError::NoItem(Box::new(error))),
            Err(_) => Err(FileError::new("read", &path, std::io::ErrorKind::NotFound.into()).into()),
        };
    }
    if path.is_dir() && path.extension().is_some_and(|ending| ending == "app") {
        let background = Background::read(ctx)?;
        let content = build(ctx, &Input::open(&path)?, &background)?;
        return Ok(report(Content::Build(Box::new(content))));
    }
    let source = InputFile::open(&path)?;
    let head = source.bytes(0..source.len().min(16), 16).unwrap_or_default();
    // looked at without our own cabinet, which may be what is broken when a copy of it is wanted
    if head == cabinet::HEAD {
        return Ok(report(Content::Cabinet(Box::new(cabinet::read(ctx, &path)?))));
    }
    let background = Background::read(ctx)?;
    if head.starts_with(b"PK") || source.is_empty() {
        let content = build(ctx, &Input::File(source), &background)?;
        return Ok(report(Content::Build(Box::new(content))));
    }
    if macho::recognise(&head) {
        return Ok(report(Content::Executable(executable::read(ctx, &source, &background)?)));
    }
    if source.len() <= CERTIFICATE_FILE {
        let failed = |error: ninekeys_formats::source::ReadError| FileError::new("read", &path, error.cause);
        let bytes = source.bytes(0..source.len(), CERTIFICATE_FILE).map_err(failed)?;
        if let Some(content) = of_bytes(ctx, bytes, password, &background)? {
            return Ok(report(content));
        }
    }
    // an archive may have something in front of it
    match build(ctx, &Input::File(source), &background) {
        Ok(build) => Ok(report(Content::Build(Box::new(build)))),
        Err(InspectError::Zip(ZipError::NotAnArchive)) => Err(InspectError::Unknown),
        Err(error) => Err(error),
    }
}

/// What a small file is: a keystore, a key, a request, a message, a profile, a list, certificates. The bytes are wiped.
pub(crate) fn of_bytes(
    ctx: &Ctx<'_>,
    bytes: Vec<u8>,
    password: Option<&SecretText>,
    background: &Background,
) -> Result<Option<Content>, InspectError> {
    // it may be a private key
    let bytes = Secret::new(bytes);
    if bytes.lend(|bytes| recognise(bytes).is_some()) {
        let content = bytes.lend(|bytes| keystore(bytes, password, background))?;
        return Ok(Some(Content::Keystore(Box::new(content))));
    }
    if let Some(content) = loose::read(&bytes, background) {
        return Ok(Some(content));
    }
    if let Some(content) = bytes.lend(|bytes| profile::read(ctx, bytes, background)) {
        return Ok(Some(content));
    }
    if let Some(content) = bytes.lend(|bytes| list::read(bytes)) {
        return Ok(Some(content));
    }
    bytes.lend(|bytes| certificates(bytes, background))
}

fn build(ctx: &Ctx<'_>, input: &Input, background: &Background) -> Result<BuildContent, InspectError> {
    let build = input.examine(None, &ctx.env).map_err(|error| match error {
        CheckError::Zip(error) => InspectError::Zip(error),
        CheckError::Digest(error) => InspectError::Digest(error),
        other => InspectError::Background(other),
    })?;
    let vouching = Roots::of(ctx, background.inventory.as_deref());
    let ios = build.ios().map(|ios| {
        let against = Against { roots: &vouching.roots, pool: &vouching.pool, ..Against::default() };
        IosLook::of(ios, against, ctx.env.now)
    });
    let package = build.android().map(|android| &android.package);
    let block = package.and_then(|package| package.block.as_ref());
    Ok(BuildContent {
        platform: build.platform,
        form: build.form,
        size: build.size,
        entries: match build.ios() {
            Some(ios) => ios.files,
            None => package.map_or(0, |package| package.archive.entries.len()),
        },
        ios: ios.as_ref().map(|ios| IosLines::of(ios, background.inventory.as_deref())),
        says: BuildSaid::of(&build),
        malformed: build.malformed.iter().map(|one| one.text.clone()).collect(),
        android: build.android().map(AndroidLines::of),
        signers: check::signer_lines(&build, background.inventory.as_deref()),
        block: block.map_or_else(Vec::new, |b| b.pairs.iter().map(|(id, _)| format!("{id:#010x}")).collect()),
    })
}

/// A keystore, opened when there is a password, else as far as it shows itself.
fn keystore(
    bytes: &[u8],
    password: Option<&SecretText>,
    background: &Background,
) -> Result<KeystoreContent, InspectError> {
    let store = match password {
        Some(password) => keystore::open(bytes, password, &Limits::USUAL)?,
        None => keystore::peek(bytes, &Limits::USUAL)?,
    };
    let content = |parsed: Certificate| certificate(&parsed, background);
    let lone = store.certificates.iter().filter_map(|der| Certificate::parse(der, &Limits::USUAL).ok());
    Ok(KeystoreContent {
        format: store.format,
        encryption: store.encryption,
        opened: password.is_some(),
        keys: store
            .keys
            .iter()
            .map(|key| KeystoreKey {
                alias: key.alias.clone(),
                certificate: key.certificate(&Limits::USUAL).map(content),
            })
            .collect(),
        others: lone.map(content).collect(),
    })
}

/// The certificates in a PEM file that can be read.
fn certificates_of(bytes: &[u8]) -> Vec<Certificate> {
    let ders = pem::blocks(bytes, pem::CERTIFICATE, &Limits::USUAL);
    ders.iter().filter_map(|der| Certificate::parse(der, &Limits::USUAL).ok()).collect()
}

fn certificates(bytes: &[u8], background: &Background) -> Result<Option<Content>, InspectError> {
    let blocks = pem::blocks(bytes, pem::CERTIFICATE, &Limits::USUAL);
    let (encoding, ders) = if !blocks.is_empty() {
        ("PEM", blocks)
    } else if bytes.starts_with(&[0x30]) {
        ("DER", vec![bytes.to_vec()])
    } else {
        return Ok(None);
    };
    let mut out = Vec::new();
    for der in ders {
        out.push(certificate(&Certificate::parse(&der, &Limits::USUAL)?, background));
    }
    Ok(Some(Content::Certificates { encoding, certificates: out }))
}

fn certificate(certificate: &Certificate, background: &Background) -> CertificateContent {
    let key_fingerprint = sha256_hex(&certificate.public_key);
    let fingerprint = sha256_hex(&certificate.der);
    let inventory = background.inventory.as_deref();
    let holder = inventory.and_then(|inventory| check::holder(inventory, &key_fingerprint, &fingerprint));
    CertificateContent {
        certificate: certificate.into(),
        issuer: certificate.issuer.clone(),
        serial: hex(&certificate.serial),
        key: certificate.into(),
        signature_algorithm: algorithm_name(&certificate.signature_algorithm.to_string()).into(),
        item: holder.as_ref().and_then(Holder::of_both),
        same_key_as: holder.as_ref().and_then(Holder::of_key),
    }
}
