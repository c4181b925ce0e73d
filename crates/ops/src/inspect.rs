//! `inspect`: what is in a file, told by its content and not by its name.

use std::path::Path;

use jiff::Timestamp;
use ninekeys_core::android::{Package, PackageKind, verify};
use ninekeys_core::digest::{DigestError, hex, sha256_hex};
use ninekeys_core::keystore::{self, Format, KeystoreError as FormatError};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::keystore::recognise;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::Manifest;
use ninekeys_formats::names::algorithm_name;
use ninekeys_formats::pem;
use ninekeys_formats::secret::SecretText;
use ninekeys_formats::source::Source;
use ninekeys_formats::x509::Certificate;
use ninekeys_formats::zip::ZipError;
use serde::Serialize;
use thiserror::Error;

use crate::build::check::{self, Background, CheckError, Holder, SchemeLine, SignerLine};
use crate::ctx::Ctx;
use crate::files::{FileError, InputFile};
use crate::show::{self, ShowError, ShowReport};

/// The most of a file that is read as a certificate or a keystore.
const CERTIFICATE_FILE: u64 = Limits::USUAL.keystore;

/// What was found.
#[derive(Debug, Serialize)]
pub struct InspectReport {
    /// The file, or the item's name.
    pub name: String,
    /// What it is.
    pub content: Content,
    /// The time of the look.
    pub at: Timestamp,
}

/// What a file can be.
#[derive(Debug, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Content {
    /// An Android package: APK or bundle.
    Apk(Box<ApkContent>),
    /// One certificate or several.
    Certificates {
        /// PEM or DER.
        encoding: &'static str,
        /// The certificates, in file order.
        certificates: Vec<CertificateContent>,
    },
    /// A keystore.
    Keystore(Box<KeystoreContent>),
    /// An item of the cabinet.
    Item(Box<ShowReport>),
}

/// What is in a keystore.
#[derive(Debug, Serialize)]
pub struct KeystoreContent {
    /// PKCS#12 or JKS.
    pub format: Format,
    /// How it is encrypted.
    pub encryption: String,
    /// Whether its password was given, and so everything is proved.
    pub opened: bool,
    /// Its keys: alias, and the certificate where it can be seen.
    pub keys: Vec<(String, Option<CertificateContent>)>,
    /// Certificates that belong to no key.
    pub others: Vec<CertificateContent>,
}

/// What is in a package.
#[derive(Debug, Serialize)]
pub struct ApkContent {
    /// APK or AAB.
    pub form: PackageKind,
    /// Its size in bytes.
    pub size: u64,
    /// How many entries it has.
    pub entries: usize,
    /// What its manifest says.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub manifest: Option<Manifest>,
    /// Why the manifest cannot be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub manifest_fault: Option<String>,
    /// What is malformed in the archive.
    pub faults: Vec<String>,
    /// The schemes that are present.
    pub schemes: Vec<SchemeLine>,
    /// Who signed it.
    pub signers: Vec<SignerLine>,
    /// Ids of the pairs in its signing block.
    pub block: Vec<String>,
}

/// What is in a certificate.
#[derive(Debug, Serialize)]
pub struct CertificateContent {
    /// RFC 4514.
    pub subject: String,
    /// RFC 4514.
    pub issuer: String,
    /// Hexadecimal.
    pub serial: String,
    /// First second of its validity.
    pub not_before: Timestamp,
    /// Last second of its validity.
    pub not_after: Timestamp,
    /// Kind and size of its key.
    pub algorithm: String,
    /// The algorithm that it is signed with.
    pub signature_algorithm: String,
    /// SHA-256 of the certificate.
    pub fingerprint: String,
    /// SHA-256 of the public key.
    pub key_fingerprint: String,
    /// The keystore in the cabinet that holds it with its key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keystore: Option<String>,
    /// The keystore that holds its key under another certificate, where none holds both.
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
    /// It is nothing that is known.
    #[error("it is neither a build (APK, AAB), a keystore (PKCS#12, JKS) nor a certificate (PEM or DER)")]
    Unknown,
    /// Neither a file nor an item.
    #[error("there is no file of that name, and nothing in the cabinet either: {0}")]
    NoItem(#[source] Box<ShowError>),
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
    let source = InputFile::open(&path)?;
    let background = Background::read(ctx)?;
    let head = source.bytes(0..source.len().min(4), 4).unwrap_or_default();
    if head.starts_with(b"PK") || source.is_empty() {
        return Ok(report(Content::Apk(Box::new(apk(ctx, &source, &background)?))));
    }
    if source.len() <= CERTIFICATE_FILE {
        let failed = |error: ninekeys_formats::source::ReadError| FileError::new("read", &path, error.cause);
        let bytes = source.bytes(0..source.len(), CERTIFICATE_FILE).map_err(failed)?;
        if recognise(&bytes).is_some() {
            return Ok(report(Content::Keystore(Box::new(keystore(&bytes, password, &background)?))));
        }
        if let Some(content) = certificates(&bytes, &background)? {
            return Ok(report(content));
        }
    }
    // an archive may have something in front of it
    match Package::read(&source, &Limits::USUAL) {
        Ok(_) => Ok(report(Content::Apk(Box::new(apk(ctx, &source, &background)?)))),
        Err(ZipError::NotAnArchive) => Err(InspectError::Unknown),
        Err(error) => Err(error.into()),
    }
}

fn apk(ctx: &Ctx<'_>, source: &InputFile, background: &Background) -> Result<ApkContent, InspectError> {
    let package = Package::read(source, &Limits::USUAL)?;
    let signatures = verify(source, &package, &Limits::USUAL, &ctx.env)?;
    let block = package.archive.block.as_ref();
    Ok(ApkContent {
        form: package.kind,
        size: package.size,
        entries: package.archive.entries.len(),
        manifest: package.manifest.as_ref().ok().cloned(),
        manifest_fault: package.manifest.as_ref().err().map(ToString::to_string),
        faults: package.archive.faults.iter().map(ToString::to_string).collect(),
        schemes: check::scheme_lines(&signatures),
        signers: check::signer_lines(&signatures, background.inventory.as_deref()),
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
            .map(|k| (k.alias.clone(), k.certificate(&Limits::USUAL).map(content)))
            .collect(),
        others: lone.map(content).collect(),
    })
}

fn certificates(bytes: &[u8], background: &Background) -> Result<Option<Content>, InspectError> {
    let blocks = pem::blocks(bytes, pem::CERTIFICATE);
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
    let time = |seconds| Timestamp::from_second(seconds).unwrap_or(Timestamp::MAX);
    let key_fingerprint = sha256_hex(&certificate.public_key);
    let fingerprint = sha256_hex(&certificate.der);
    let inventory = background.inventory.as_deref();
    let holder = inventory.and_then(|inventory| check::holder(inventory, &key_fingerprint, &fingerprint));
    CertificateContent {
        subject: certificate.subject.clone(),
        issuer: certificate.issuer.clone(),
        serial: hex(&certificate.serial),
        not_before: time(certificate.not_before),
        not_after: time(certificate.not_after),
        algorithm: certificate.key.to_string(),
        signature_algorithm: algorithm_name(&certificate.signature_algorithm.to_string()).into(),
        fingerprint,
        keystore: holder.as_ref().and_then(Holder::of_both),
        same_key_as: holder.as_ref().and_then(Holder::of_key),
        key_fingerprint,
    }
}
