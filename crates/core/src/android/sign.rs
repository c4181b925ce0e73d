//! Signing a package: opened, laid out, digested, signed, and each step only after the one before.
//!
//! [`Opened`] was read strictly. [`Allowed`] may go where it goes. [`LaidOut`] knows where every byte of the output
//! goes.
//! [`LaidOut::digest`] streams the entries to the output and digests them on the way, in one pass. Only
//! [`Signed`] has the bytes that make it a package: the signing block, the directory, the end record.

use ninekeys_formats::jar;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::{Manifest, Sdk};
use ninekeys_formats::signing_block::signer::{v2_signed_data, v2_value, v3_signed_data, v3_value};
use ninekeys_formats::signing_block::{self, LAST_SDK};
use ninekeys_formats::source::Source;
use ninekeys_formats::zip::rewrite::{Assembly, Layout, Piece, lay_out};
use ninekeys_formats::zip::write::end_record;
use ninekeys_formats::zip::{ZipError, ZipFault};
use thiserror::Error;

use super::algorithm::V2Algorithm;
use super::package::{ManifestFault, Package, boundary};
use super::report::Scheme;
use super::v1::{self, V1Error};
use crate::digest::{DigestError, Section, Sink, chunked, hex};
use crate::env::Env;
use crate::keys::{KeyError, Signer};
use crate::model::Destination;

/// The lowest platform level that reads scheme v2; below it v1 is needed.
const FIRST_SDK_WITH_V2: u32 = 24;
/// The lowest platform level that reads SHA-256 in scheme v1.
const FIRST_SDK_WITH_SHA256: u32 = 18;
/// The level that v3 signers are said to be for, whatever the package's lowest: what other writers put there.
const FIRST_SDK_OF_V3_SIGNERS: u32 = 24;
const PAGE: u64 = 4096;

/// Why a package is not signed.
#[derive(Debug, Error)]
pub enum SignError {
    /// It does not open as an archive.
    #[error(transparent)]
    Zip(#[from] ZipError),
    /// It opens, and is malformed.
    #[error("the archive is malformed: {0}")]
    Malformed(ZipFault),
    /// Its manifest cannot be read.
    #[error(transparent)]
    Manifest(#[from] ManifestFault),
    /// It must not be signed as it is.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// Digesting failed.
    #[error(transparent)]
    Digest(#[from] DigestError),
    /// The key could not sign.
    #[error(transparent)]
    Key(#[from] KeyError),
}

impl From<V1Error> for SignError {
    fn from(error: V1Error) -> Self {
        match error {
            V1Error::Digest(error) => error.into(),
            V1Error::Zip(error) => error.into(),
            V1Error::Key(error) => error.into(),
            V1Error::Encoding => Refusal::Certificate.into(),
        }
    }
}

/// What must not be signed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum Refusal {
    /// It would run on devices that know no better hash than SHA-1.
    #[error(
        "it runs from SDK {min_sdk} on, and below SDK {FIRST_SDK_WITH_SHA256} devices read only signatures with \
         SHA-1, which are not made any more: raise its lowest SDK to {FIRST_SDK_WITH_SHA256} or more"
    )]
    NeedsSha1 {
        /// The manifest's lowest SDK.
        min_sdk: Sdk,
    },
    /// Anyone with a cable could look into it.
    #[error("it is debuggable: anyone with a cable can read and change what it does")]
    Debuggable,
    /// Devices would not install it.
    #[error("it is marked test-only: devices refuse to install it")]
    TestOnly,
    /// The certificate cannot be put into a v1 signature.
    #[error("its certificate cannot be put into a signature of scheme v1")]
    Certificate,
    /// It would be larger than a package can be.
    #[error("it would be larger than a package can be: 4 GiB, 65,534 entries")]
    TooLarge,
    /// The key cannot be used for these schemes.
    #[error("no signature scheme has an algorithm for a key of kind {0}")]
    Key(String),
}

/// A package that was read and is sound.
pub struct Opened<'a> {
    source: &'a dyn Source,
    package: Package,
    manifest: Manifest,
}

impl<'a> Opened<'a> {
    /// Reads a package strictly.
    ///
    /// # Errors
    /// [`SignError`] when it cannot be read or is malformed.
    pub fn open(source: &'a dyn Source, limits: &Limits) -> Result<Opened<'a>, SignError> {
        let package = Package::read(source, limits)?;
        // a broken old block is dropped with the rest of the old signature
        let fault = package.archive.faults.iter().find(|fault| !matches!(fault, ZipFault::Block(_)));
        if let Some(fault) = fault {
            return Err(SignError::Malformed(fault.clone()));
        }
        let manifest = match &package.manifest {
            Ok(manifest) => manifest.clone(),
            Err(_) => return Err(SignError::Manifest(manifest_fault(package))),
        };
        Ok(Opened { source, package, manifest })
    }

    /// What the manifest says.
    pub fn manifest(&self) -> &Manifest {
        &self.manifest
    }

    /// Whether an earlier signature is there, of any scheme; it will be dropped.
    pub fn is_signed(&self) -> bool {
        let archive = &self.package.archive;
        archive.block.is_some() || archive.entries.iter().any(|entry| jar::is_signed_manifest(&entry.name))
    }

    /// Refuses what must not be signed for `destination`.
    ///
    /// # Errors
    /// [`Refusal`].
    pub fn allow(self, destination: Destination) -> Result<Allowed<'a>, SignError> {
        refuse(&self.manifest, destination)?;
        Ok(Allowed(self))
    }
}

/// A package that may be signed for its destination.
pub struct Allowed<'a>(Opened<'a>);

/// Who signs: a key, its certificate, and the alias that the files of scheme v1 are named after.
#[derive(Clone, Copy)]
pub struct Identity<'a> {
    /// The key.
    pub signer: &'a dyn Signer,
    /// Its certificate, DER.
    pub certificate: &'a [u8],
    /// Its name.
    pub alias: &'a str,
}

impl<'a> Allowed<'a> {
    /// What the manifest says.
    pub fn manifest(&self) -> &Manifest {
        self.0.manifest()
    }

    /// Decides where every byte of the output goes: old signatures out, stored entries aligned, the end of
    /// the entries moved to a page. Where devices need scheme v1, its files are made and put in front, which
    /// takes every entry's content.
    ///
    /// # Errors
    /// [`SignError`] when the content cannot be read, the key refuses, or the output would be too large.
    pub fn lay_out(self, identity: Identity<'_>, env: &Env<'_>) -> Result<LaidOut<'a>, SignError> {
        let Opened { source, package, manifest } = self.0;
        let needs_v1 = manifest.min_sdk.lowest_level() < FIRST_SDK_WITH_V2;
        let files = if needs_v1 {
            let name = v1::file_name(identity.alias);
            let Identity { signer, certificate, .. } = identity;
            v1::sign(source, &package.archive, signer, certificate, &name, env)?.0
        } else {
            Vec::new()
        };
        let keep = |entry: &ninekeys_formats::zip::Entry| !jar::is_signature_file(&entry.name);
        let Layout { mut pieces, body, directory, count, realigned } =
            lay_out(&package.archive, &files, keep, boundary);
        let padded = body.next_multiple_of(PAGE);
        pieces.push(Piece::Bytes(vec![0; usize::try_from(padded - body).unwrap_or(0)]));
        // the signing block of one signer stays far below a mebibyte
        // the format counts entries in 16 bits, and a package is no zip64
        if usize::from(count) < files.len() || count == u16::MAX {
            return Err(Refusal::TooLarge.into());
        }
        if padded + directory.len() as u64 + (1 << 20) > u64::from(u32::MAX) {
            return Err(Refusal::TooLarge.into());
        }
        let body = Assembly::new(source, pieces);
        Ok(LaidOut { body, directory, count, realigned, v1: needs_v1 })
    }
}

fn manifest_fault(package: Package) -> ManifestFault {
    match package.manifest {
        Err(fault) => fault,
        Ok(_) => ManifestFault::Missing,
    }
}

fn refuse(manifest: &Manifest, destination: Destination) -> Result<(), Refusal> {
    if manifest.min_sdk.lowest_level() < FIRST_SDK_WITH_SHA256 {
        return Err(Refusal::NeedsSha1 { min_sdk: manifest.min_sdk.clone() });
    }
    let goes_out = matches!(destination, Destination::Direct | Destination::Store);
    if manifest.debuggable && goes_out {
        return Err(Refusal::Debuggable);
    }
    if manifest.test_only && goes_out {
        return Err(Refusal::TestOnly);
    }
    Ok(())
}

/// A package whose output is decided, but for its signature.
pub struct LaidOut<'a> {
    body: Assembly<'a>,
    directory: Vec<u8>,
    count: u16,
    realigned: usize,
    v1: bool,
}

impl LaidOut<'_> {
    /// How many stored entries were moved to their alignment.
    pub fn realigned(&self) -> usize {
        self.realigned
    }

    /// Digests the output for a signature by `signer`, and writes its entries to `sink` on the way.
    ///
    /// # Errors
    /// [`SignError`] when reading or writing fails, the key is of no use for the schemes, or the user wants to
    /// stop.
    pub fn digest(self, signer: &dyn Signer, sink: &dyn Sink, env: &Env<'_>) -> Result<Ready, SignError> {
        let shape = signer.public().shape();
        let algorithm = V2Algorithm::for_key(shape).ok_or_else(|| Refusal::Key(shape.to_string()))?;
        let body = self.body.len();
        let position = u32::try_from(body).map_err(|_| Refusal::TooLarge)?;
        let size = u32::try_from(self.directory.len()).map_err(|_| Refusal::TooLarge)?;
        // the digest covers the end record as if the block were not there
        let end = end_record(self.count, size, position);
        let sections = [
            Section { source: &self.body, range: 0..body, copy_to: Some(sink) },
            Section { source: &self.directory, range: 0..u64::from(size), copy_to: None },
            Section { source: &end, range: 0..end.len() as u64, copy_to: None },
        ];
        let mut digests = chunked("signing", &[algorithm.hash], &sections, env)?;
        let digest = digests.pop().unwrap_or_default();
        let LaidOut { directory, count, v1, .. } = self;
        Ok(Ready { body, directory, count, v1, algorithm, digest })
    }
}

/// A package whose entries are written and digested.
#[derive(Debug)]
pub struct Ready {
    body: u64,
    directory: Vec<u8>,
    count: u16,
    v1: bool,
    algorithm: V2Algorithm,
    digest: Vec<u8>,
}

impl Ready {
    /// Signs the digest.
    ///
    /// # Errors
    /// [`SignError::Key`] when the key refuses.
    pub fn sign(self, signer: &dyn Signer, certificate: &[u8]) -> Result<Signed, SignError> {
        let id = self.algorithm.id;
        let public = signer.public().as_der();
        let kind = self.algorithm.signature;
        let data = v2_signed_data(id, &self.digest, certificate, &[3]);
        let v2 = v2_value(&data, id, &signer.sign(kind, &data)?, public);
        let sdk = FIRST_SDK_OF_V3_SIGNERS..=LAST_SDK;
        let data = v3_signed_data(id, &self.digest, certificate, &sdk, &[]);
        let v3 = v3_value(&data, &sdk, id, &signer.sign(kind, &data)?, public);
        let block = signing_block::write(&[(signing_block::V2, v2), (signing_block::V3, v3)]);
        let directory_at = self.body + block.len() as u64;
        let position = u32::try_from(directory_at).map_err(|_| Refusal::TooLarge)?;
        let end = end_record(self.count, self.directory.len() as u32, position);
        Ok(Signed {
            at: self.body,
            tail: [block, self.directory, end].concat(),
            content: hex(&self.digest),
            schemes: self.v1.then_some(Scheme::V1).into_iter().chain([Scheme::V2, Scheme::V3]).collect(),
        })
    }
}

/// What makes the written entries a signed package.
#[derive(Debug)]
pub struct Signed {
    /// Where the tail goes: the end of the entries.
    pub at: u64,
    /// Signing block, central directory, end record.
    pub tail: Vec<u8>,
    /// The content digest that was signed, in hexadecimal.
    pub content: String,
    /// The schemes it is signed with.
    pub schemes: Vec<Scheme>,
}
