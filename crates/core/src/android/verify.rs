//! Verifying a package's signatures.
//!
//! Scheme v2 is verified. A later or earlier scheme that is present is reported as present and unverified:
//! what to make of that is a rule's decision, and silence is never one.

use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::jar;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::signing_block::{self, ATTRIBUTE_LATER_SCHEME, Signer as BlockSigner};
use ninekeys_formats::source::Source;
use ninekeys_formats::x509::Certificate;
use serde::Serialize;
use thiserror::Error;

use super::algorithm::V2Algorithm;
use super::package::Package;
use crate::digest::{DigestError, Hash, Section, chunked, hex, sha256_hex};
use crate::env::Env;
use crate::keys::{PublicKey, verify as verify_signature};

/// A signature scheme of packages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Scheme {
    /// JAR signing.
    V1,
    /// The signing block's first scheme.
    V2,
    /// With rotation of keys.
    V3,
    /// With rotation from a given platform level on.
    V31,
}

impl std::fmt::Display for Scheme {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Scheme::V1 => "v1",
            Scheme::V2 => "v2",
            Scheme::V3 => "v3",
            Scheme::V31 => "v3.1",
        })
    }
}

/// What verifying a scheme came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SchemeState {
    /// Every signature and digest is good.
    Verified,
    /// It is there, and this version cannot verify it yet.
    NotVerified,
    /// Something in it is wrong, or cannot be verified.
    Broken(Vec<SignatureFault>),
}

/// What is wrong with a signature.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SignatureFault {
    /// The scheme's structure cannot be read.
    #[error("it cannot be read: {0}")]
    Malformed(#[from] ParseError),
    /// An algorithm or key that cannot be verified here.
    #[error("its algorithm {0:#06x} cannot be verified with a key of kind {1}")]
    Unsupported(u32, String),
    /// A signature is wrong.
    #[error("the signature over its signed data is wrong (algorithm {0:#06x})")]
    Signature(u32),
    /// The content is not what was signed.
    #[error("the content was changed after it was signed: its digest is another")]
    Content,
    /// The algorithms of digests and signatures differ.
    #[error("its digests and its signatures are not of the same algorithms")]
    AlgorithmLists,
    /// The public key is not that of the certificate.
    #[error("its public key is not the one in its certificate")]
    KeyNotInCertificate,
    /// The certificate cannot be read.
    #[error("its certificate cannot be read: {0}")]
    Certificate(ParseError),
    /// The key itself cannot be read.
    #[error("its public key cannot be read")]
    PublicKey,
}

/// One scheme that is present.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SchemeReport {
    /// Which.
    pub scheme: Scheme,
    /// What came of it.
    pub state: SchemeState,
}

/// A signer of a verified scheme.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignerReport {
    /// The scheme.
    pub scheme: Scheme,
    /// Its certificate.
    pub certificate: Certificate,
    /// SHA-256 of the certificate.
    pub certificate_fingerprint: String,
    /// SHA-256 of the public key.
    pub key_fingerprint: String,
}

/// Everything there is to say about a package's signatures.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Signatures {
    /// The schemes that are present, oldest first.
    pub schemes: Vec<SchemeReport>,
    /// The signers that could be read.
    pub signers: Vec<SignerReport>,
    /// Schemes that another part of the package announces and that are missing.
    pub stripped: Vec<Scheme>,
    /// The content digest of the strongest hash that a v2 signer names, in hexadecimal.
    pub content: Option<String>,
}

impl Signatures {
    /// Whether any scheme is present.
    pub fn any(&self) -> bool {
        !self.schemes.is_empty()
    }

    /// Whether that scheme is present.
    pub fn has(&self, scheme: Scheme) -> bool {
        self.schemes.iter().any(|report| report.scheme == scheme)
    }
}

/// Verifies what can be verified.
///
/// # Errors
/// [`DigestError`] when the package cannot be read or the user wants to stop. What is wrong with a signature
/// is no error but part of the answer.
pub fn verify(
    source: &dyn Source,
    package: &Package,
    limits: &Limits,
    env: &Env<'_>,
) -> Result<Signatures, DigestError> {
    let mut out = Signatures::default();
    let block = |id| package.archive.block.as_ref().and_then(|block| block.find(id));
    let mut announced = Vec::new();
    let mut v1 = false;
    for entry in package.archive.entries.iter().filter(|entry| jar::is_signed_manifest(&entry.name)) {
        v1 = true;
        if let Ok(file) = package.archive.read(source, entry, limits) {
            announced.extend(jar::announced_schemes(&file));
        }
    }
    if v1 {
        out.schemes.push(SchemeReport { scheme: Scheme::V1, state: SchemeState::NotVerified });
    }
    if let Some(value) = block(signing_block::V2) {
        let state = verify_v2(source, package, value, limits, env, &mut out, &mut announced)?;
        out.schemes.push(SchemeReport { scheme: Scheme::V2, state });
    }
    for (id, scheme) in [(signing_block::V3, Scheme::V3), (signing_block::V31, Scheme::V31)] {
        if block(id).is_some() {
            out.schemes.push(SchemeReport { scheme, state: SchemeState::NotVerified });
        }
    }
    for (number, scheme) in [(2, Scheme::V2), (3, Scheme::V3)] {
        if announced.contains(&number) && !out.has(scheme) {
            out.stripped.push(scheme);
        }
    }
    Ok(out)
}

fn verify_v2(
    source: &dyn Source,
    package: &Package,
    value: &[u8],
    limits: &Limits,
    env: &Env<'_>,
    out: &mut Signatures,
    announced: &mut Vec<u32>,
) -> Result<SchemeState, DigestError> {
    let signers = match signing_block::parse_v2(value, limits) {
        Ok(signers) => signers,
        Err(error) => return Ok(SchemeState::Broken(vec![error.into()])),
    };
    let hashes = wanted_hashes(&signers);
    let digests = content_digests(source, package, &hashes, env)?;
    out.content = digests.last().map(|digest| hex(digest));
    let mut faults = Vec::new();
    for signer in &signers {
        let later = signer.attributes.iter().filter(|(id, _)| *id == ATTRIBUTE_LATER_SCHEME);
        announced.extend(later.filter_map(|(_, value)| Some(u32::from_le_bytes((*value).try_into().ok()?))));
        check_signer(signer, &hashes, &digests, limits, out, &mut faults);
    }
    Ok(if faults.is_empty() { SchemeState::Verified } else { SchemeState::Broken(faults) })
}

/// The hashes that the signers' digests are made with, in ascending strength.
fn wanted_hashes(signers: &[BlockSigner<'_>]) -> Vec<Hash> {
    let ids = signers.iter().flat_map(|signer| signer.digests.iter().map(|(id, _)| *id));
    let mut hashes: Vec<Hash> = ids.filter_map(|id| Some(V2Algorithm::by_id(id)?.hash)).collect();
    hashes.sort();
    hashes.dedup();
    hashes
}

/// The content as signed: entries, directory, and the end record as if the block were not there.
fn content_digests(
    source: &dyn Source,
    package: &Package,
    hashes: &[Hash],
    env: &Env<'_>,
) -> Result<Vec<Vec<u8>>, DigestError> {
    if hashes.is_empty() {
        return Ok(Vec::new());
    }
    let archive = &package.archive;
    let body_end = archive.body_end();
    let mut end = source.bytes(archive.end_record.clone(), 1 << 17)?;
    if let (Some(field), Ok(position)) = (end.get_mut(16..20), u32::try_from(body_end)) {
        field.copy_from_slice(&position.to_le_bytes());
    }
    let sections = [
        Section { source: &source, range: 0..body_end, copy_to: None },
        Section { source: &source, range: archive.directory.clone(), copy_to: None },
        Section { source: &end, range: 0..end.len() as u64, copy_to: None },
    ];
    chunked("checking", hashes, &sections, env)
}

fn check_signer(
    signer: &BlockSigner<'_>,
    hashes: &[Hash],
    digests: &[Vec<u8>],
    limits: &Limits,
    out: &mut Signatures,
    faults: &mut Vec<SignatureFault>,
) {
    let digest_ids: Vec<u32> = signer.digests.iter().map(|(id, _)| *id).collect();
    let signature_ids: Vec<u32> = signer.signatures.iter().map(|(id, _)| *id).collect();
    if digest_ids != signature_ids {
        faults.push(SignatureFault::AlgorithmLists);
    }
    match signer.certificates.first().map(|der| Certificate::parse(der, limits)) {
        Some(Ok(certificate)) => {
            if certificate.public_key != signer.public_key {
                faults.push(SignatureFault::KeyNotInCertificate);
            }
            out.signers.push(SignerReport {
                scheme: Scheme::V2,
                certificate_fingerprint: sha256_hex(&certificate.der),
                key_fingerprint: sha256_hex(&certificate.public_key),
                certificate,
            });
        }
        Some(Err(error)) => faults.push(SignatureFault::Certificate(error)),
        None => faults.push(SignatureFault::KeyNotInCertificate),
    }
    let Ok(key) = PublicKey::from_der(signer.public_key) else {
        faults.push(SignatureFault::PublicKey);
        return;
    };
    for (id, signature) in &signer.signatures {
        let kind = V2Algorithm::by_id(*id).map(|algorithm| algorithm.signature);
        match kind.and_then(|kind| verify_signature(&key, kind, signer.signed_data, signature)) {
            Some(true) => {}
            Some(false) => faults.push(SignatureFault::Signature(*id)),
            None => faults.push(SignatureFault::Unsupported(*id, key.shape().to_string())),
        }
    }
    for (id, digest) in &signer.digests {
        let Some(algorithm) = V2Algorithm::by_id(*id) else { continue };
        let found = hashes.iter().position(|hash| *hash == algorithm.hash).and_then(|at| digests.get(at));
        if found.map(Vec::as_slice) != Some(*digest) {
            faults.push(SignatureFault::Content);
        }
    }
}
