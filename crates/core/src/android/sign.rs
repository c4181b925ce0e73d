//! Signing a package: opened, laid out, digested, signed, and each step only after the one before.
//!
//! [`Opened`] was read strictly. [`Allowed`] may go where it goes. [`LaidOut`] knows where every byte of the output
//! goes.
//! [`LaidOut::digest`] streams the entries to the output and digests them on the way, in one pass. Only
//! [`Signed`] has the bytes that make it a package: the signing block, the directory, the end record.

use std::ops::RangeInclusive;

use ninekeys_formats::jar;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::Manifest;
use ninekeys_formats::signing_block::signer::{v2_signed_data, v2_value, v3_signed_data, v3_value};
use ninekeys_formats::signing_block::{
    self, ATTRIBUTE_LINEAGE, ATTRIBUTE_ROTATION_MIN_SDK, LAST_SDK, V2, V3, V31,
};
use ninekeys_formats::source::Source;
use ninekeys_formats::zip::rewrite::{Assembly, Layout, Piece, lay_out};
use ninekeys_formats::zip::write::end_record;
use ninekeys_formats::zip::{Archive, ZipError};
use thiserror::Error;

use super::algorithm::V2Algorithm;
use super::chunks::{Hash, Section, chunked};
use super::package::{BlockFault, ManifestFault, Package, PackageKind, boundary};
use super::refusal::{FIRST_SDK_WITH_SHA256, Refusal};
use super::report::Scheme;
use super::schemes::Schemes;
use super::signing::{Identity, Signing};
use super::v1::{self, V1Error};
use crate::digest::hex;
use crate::env::Env;
use crate::keys::KeyError;
use crate::model::Destination;
use crate::stream::{DigestError, Sink};

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
    Malformed(String),
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
        if let Some(fault) = package.archive.faults.first() {
            return Err(SignError::Malformed(fault.to_string()));
        }
        // a block that cannot be read is dropped with the rest of the old signature
        let twice = package.block_faults.iter().find(|fault| matches!(fault, BlockFault::Twice(_)));
        if let Some(fault) = twice {
            return Err(SignError::Malformed(fault.to_string()));
        }
        let manifest = match &package.manifest {
            Ok(manifest) => manifest.clone(),
            Err(_) => return Err(SignError::Manifest(manifest_fault(package))),
        };
        Ok(Opened { source, package, manifest })
    }

    /// APK or AAB.
    pub fn kind(&self) -> PackageKind {
        self.package.kind
    }

    /// What the manifest says.
    pub fn manifest(&self) -> &Manifest {
        &self.manifest
    }

    /// Its entries.
    pub(super) fn archive(&self) -> &Archive {
        &self.package.archive
    }

    /// Whether an earlier signature is there, of any scheme; it will be dropped.
    pub fn is_signed(&self) -> bool {
        let Package { archive, block, .. } = &self.package;
        block.is_some() || archive.entries.iter().any(|entry| jar::is_signed_manifest(&entry.name))
    }

    /// Refuses what must not be signed for `destination`.
    ///
    /// # Errors
    /// [`Refusal`].
    pub fn allow(self, destination: Destination) -> Result<Allowed<'a>, SignError> {
        refuse(self.package.kind, &self.manifest, destination)?;
        Ok(Allowed(self))
    }
}

/// A package that may be signed for its destination.
pub struct Allowed<'a>(Opened<'a>);

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
    /// [`SignError`] when the schemes would leave devices out, the content cannot be read, the key refuses, or the
    /// output would be too large.
    pub fn lay_out<'s>(self, signing: Signing<'s>, env: &Env<'_>) -> Result<LaidOut<'a, 's>, SignError> {
        let Opened { source, package, manifest } = self.0;
        let schemes = Schemes::choose(package.kind, &manifest, signing.schemes)?;
        signing.refuse()?;
        let files = if schemes.v1 {
            v1::sign(source, &package.archive, signing.oldest(), schemes, env)?.0
        } else {
            Vec::new()
        };
        let keep = |entry: &ninekeys_formats::zip::Entry| !jar::is_signature_file(&entry.name);
        let bundle = package.kind == PackageKind::Bundle;
        let alignment = |entry: &ninekeys_formats::zip::Entry| if bundle { 1 } else { boundary(entry) };
        let Layout { mut pieces, body, directory, count, realigned } =
            lay_out(&package.archive, &files, keep, alignment);
        let padded = if schemes.has_block() { body.next_multiple_of(PAGE) } else { body };
        if padded > body {
            pieces.push(Piece::Bytes(vec![0; usize::try_from(padded - body).unwrap_or(0)]));
        }
        // the format counts entries in 16 bits, and a package is no zip64
        if usize::from(count) < files.len() || count == u16::MAX {
            return Err(Refusal::TooLarge.into());
        }
        // the signing block of one signer stays far below a mebibyte
        if padded + directory.len() as u64 + (1 << 20) > u64::from(u32::MAX) {
            return Err(Refusal::TooLarge.into());
        }
        let body = Assembly::new(source, pieces);
        Ok(LaidOut { body, directory, count, realigned, schemes, signing })
    }
}

fn manifest_fault(package: Package) -> ManifestFault {
    match package.manifest {
        Err(fault) => fault,
        Ok(_) => ManifestFault::Missing,
    }
}

fn refuse(kind: PackageKind, manifest: &Manifest, destination: Destination) -> Result<(), Refusal> {
    if kind == PackageKind::Bundle && destination == Destination::Direct {
        return Err(Refusal::BundleForPeople);
    }
    // what devices get of a bundle is signed by the store
    if kind == PackageKind::Apk && manifest.min_sdk.is_below(FIRST_SDK_WITH_SHA256) {
        return Err(Refusal::NeedsSha1 { min_sdk: manifest.min_sdk.clone() });
    }
    if manifest.version_code_unknown {
        return Err(Refusal::CodeUnknown);
    }
    if manifest.debuggable && destination.leaves_the_house() {
        return Err(Refusal::Debuggable);
    }
    if manifest.test_only && destination.leaves_the_house() {
        return Err(Refusal::TestOnly);
    }
    Ok(())
}

/// A package whose output is decided, but for its signature.
pub struct LaidOut<'a, 's> {
    body: Assembly<'a>,
    directory: Vec<u8>,
    count: u16,
    realigned: usize,
    schemes: Schemes,
    signing: Signing<'s>,
}

/// What a key signs with in the signing block.
fn algorithm(identity: Identity<'_>) -> Result<V2Algorithm, Refusal> {
    let shape = identity.signer.public().shape();
    V2Algorithm::for_key(shape).ok_or_else(|| Refusal::Key(shape.to_string()))
}

impl<'s> LaidOut<'_, 's> {
    /// How many stored entries were moved to their alignment.
    pub fn realigned(&self) -> usize {
        self.realigned
    }

    /// Digests the output for its signatures, and writes its entries to `sink` on the way.
    ///
    /// # Errors
    /// [`SignError`] when reading or writing fails, a key is of no use for the schemes, or the user wants to stop.
    pub fn digest(self, sink: &dyn Sink, env: &Env<'_>) -> Result<Ready<'s>, SignError> {
        let hashes = self.hashes()?;
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
        let found = chunked("signing", &hashes, &sections, env)?;
        let digests = hashes.into_iter().zip(found).collect();
        let LaidOut { directory, count, schemes, signing, .. } = self;
        Ok(Ready { body, directory, count, schemes, signing, digests })
    }

    /// The hashes that its signers need, in ascending strength; without a signing block the one that the ledger
    /// knows builds by.
    fn hashes(&self) -> Result<Vec<Hash>, Refusal> {
        if !self.schemes.has_block() {
            return Ok(vec![Hash::Sha256]);
        }
        let mut hashes = vec![algorithm(self.signing.identity)?.hash, algorithm(self.signing.oldest())?.hash];
        hashes.sort();
        hashes.dedup();
        Ok(hashes)
    }
}

/// A package whose entries are written and digested.
pub struct Ready<'s> {
    body: u64,
    directory: Vec<u8>,
    count: u16,
    schemes: Schemes,
    signing: Signing<'s>,
    digests: Vec<(Hash, Vec<u8>)>,
}

impl Ready<'_> {
    /// Signs the digests.
    ///
    /// # Errors
    /// [`SignError::Key`] when a key refuses.
    pub fn sign(self) -> Result<Signed, SignError> {
        let mut schemes: Vec<Scheme> = self.schemes.v1.then_some(Scheme::V1).into_iter().collect();
        let mut pairs = Vec::new();
        if self.schemes.v2 {
            schemes.push(Scheme::V2);
            pairs.push((V2, self.v2()?));
        }
        if self.schemes.v3 {
            schemes.push(Scheme::V3);
            pairs.extend(self.v3()?);
            schemes.extend(pairs.iter().any(|(id, _)| *id == V31).then_some(Scheme::V31));
        }
        let block = if pairs.is_empty() { Vec::new() } else { signing_block::write(&pairs) };
        let directory_at = self.body + block.len() as u64;
        let position = u32::try_from(directory_at).map_err(|_| Refusal::TooLarge)?;
        let end = end_record(self.count, self.directory.len() as u32, position);
        Ok(Signed {
            at: self.body,
            tail: [block, self.directory, end].concat(),
            content: self.digests.last().map(|(_, digest)| hex(digest)).unwrap_or_default(),
            schemes,
        })
    }

    fn digest(&self, hash: Hash) -> &[u8] {
        let found = self.digests.iter().find(|(known, _)| *known == hash);
        found.map(|(_, digest)| digest.as_slice()).unwrap_or_default()
    }

    fn v2(&self) -> Result<Vec<u8>, SignError> {
        let signer = self.signing.oldest();
        let algorithm = algorithm(signer)?;
        let later: &[u32] = if self.schemes.v3 { &[3] } else { &[] };
        let data = v2_signed_data(algorithm.id, self.digest(algorithm.hash), signer.certificate, later);
        let signature = signer.signer.sign(algorithm.signature, &data)?;
        Ok(v2_value(&data, algorithm.id, &signature, signer.signer.public().as_der()))
    }

    /// v3, and v3.1 where a rotated key begins at a level of its own: v3 is then the oldest key's.
    fn v3(&self) -> Result<Vec<(u32, Vec<u8>)>, SignError> {
        let newest = self.signing.identity;
        let Some(rotation) = self.signing.rotation else {
            let all = FIRST_SDK_OF_V3_SIGNERS..=LAST_SDK;
            return Ok(vec![(V3, self.v3_signer(newest, all, &[])?)]);
        };
        let lineage = (ATTRIBUTE_LINEAGE, rotation.lineage.to_bytes());
        match rotation.from {
            None => {
                let all = FIRST_SDK_OF_V3_SIGNERS..=LAST_SDK;
                Ok(vec![(V3, self.v3_signer(newest, all, &[lineage])?)])
            }
            Some(from) => {
                let before = FIRST_SDK_OF_V3_SIGNERS..=from - 1;
                let begins = (ATTRIBUTE_ROTATION_MIN_SDK, from.to_le_bytes().to_vec());
                Ok(vec![
                    (V3, self.v3_signer(rotation.oldest, before, &[begins])?),
                    (V31, self.v3_signer(newest, from..=LAST_SDK, &[lineage])?),
                ])
            }
        }
    }

    fn v3_signer(
        &self,
        signer: Identity<'_>,
        sdk: RangeInclusive<u32>,
        attributes: &[(u32, Vec<u8>)],
    ) -> Result<Vec<u8>, SignError> {
        let algorithm = algorithm(signer)?;
        let digest = self.digest(algorithm.hash);
        let data = v3_signed_data(algorithm.id, digest, signer.certificate, &sdk, attributes);
        let signature = signer.signer.sign(algorithm.signature, &data)?;
        Ok(v3_value(&data, &sdk, algorithm.id, &signature, signer.signer.public().as_der()))
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
