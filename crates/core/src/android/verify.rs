//! Verifying a package's signatures.
//!
//! Every scheme that is present is verified: v1 over the content of the entries, v2, v3 and v3.1 over the bytes of
//! the package, with their lineage. An algorithm that cannot be verified is a fault of its own, never silence.

use std::ops::RangeInclusive;

use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::jar;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::signing_block::signer::{Signer as BlockSigner, parse_v2, parse_v3};
use ninekeys_formats::signing_block::{
    self, ATTRIBUTE_LATER_SCHEME, ATTRIBUTE_LINEAGE, ATTRIBUTE_ROTATION_MIN_SDK,
};
use ninekeys_formats::source::Source;
use ninekeys_formats::x509::Certificate;

use super::algorithm::V2Algorithm;
use super::chunks::{Hash, Section, chunked};
use super::package::Package;
use super::report::{Scheme, SchemeReport, SchemeState, SignatureFault, Signatures, SignerReport};
use super::rotation;
use crate::digest::{hex, sha256_hex};
use crate::env::Env;
use crate::keys::{PublicKey, verify as verify_signature};
use crate::stream::DigestError;

/// A scheme of the signing block, read but not verified.
struct Read<'a> {
    scheme: Scheme,
    signers: Result<Vec<BlockSigner<'a>>, ParseError>,
}

impl Read<'_> {
    /// The signers, as far as they could be read.
    fn signers(&self) -> &[BlockSigner<'_>] {
        self.signers.as_deref().unwrap_or_default()
    }

    fn ranges(&self) -> Vec<RangeInclusive<u32>> {
        self.signers().iter().filter_map(|signer| signer.sdk.clone()).collect()
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
    let mut announced = Vec::new();
    let mut v1 = false;
    for entry in package.archive.entries.iter().filter(|entry| jar::is_signed_manifest(&entry.name)) {
        v1 = true;
        if let Ok(file) = package.archive.read(source, entry, limits) {
            announced.extend(jar::announced_schemes(&file, limits));
        }
    }
    if v1 {
        let faults = super::v1::check(source, &package.archive, limits, env, &mut out.signers)?;
        out.schemes.push(SchemeReport { scheme: Scheme::V1, state: SchemeState::of(faults) });
    }
    let read = read_block(package, limits);
    // one pass over the content, whatever the schemes
    let mut hashes = wanted_hashes(read.iter().flat_map(Read::signers));
    if hashes.is_empty() && v1 {
        // nothing in the package names it, and the ledger tells builds apart by it
        hashes.push(Hash::Sha256);
    }
    let digests = content_digests(source, package, &hashes, env)?;
    out.content = digests.last().map(|digest| hex(digest));
    let content = Content { hashes: &hashes, digests: &digests };
    for one in &read {
        let mut faults = Vec::new();
        match &one.signers {
            Err(error) => faults.push(error.clone().into()),
            Ok(signers) => {
                for signer in signers {
                    check_signer(one.scheme, signer, &content, limits, &mut out, &mut faults);
                }
            }
        }
        check_levels(one, &read, package, &mut faults);
        out.schemes.push(SchemeReport { scheme: one.scheme, state: SchemeState::of(faults) });
    }
    out.stripped = stripped(&read, &announced);
    Ok(out)
}

/// The schemes of the signing block that are there.
fn read_block<'a>(package: &'a Package, limits: &Limits) -> Vec<Read<'a>> {
    let block = package.block.as_ref();
    let ids =
        [(signing_block::V2, Scheme::V2), (signing_block::V3, Scheme::V3), (signing_block::V31, Scheme::V31)];
    ids.into_iter()
        .filter_map(|(id, scheme)| {
            let value = block?.find(id)?;
            let signers =
                if scheme == Scheme::V2 { parse_v2(value, limits) } else { parse_v3(value, limits) };
            Some(Read { scheme, signers })
        })
        .collect()
}

/// The level that a v3 signer says v3.1 decides from.
fn rotation_level(read: &[Read<'_>]) -> Option<u32> {
    let v3 = read.iter().find(|one| one.scheme == Scheme::V3)?;
    let value = v3.signers().iter().find_map(|signer| signer.attribute(ATTRIBUTE_ROTATION_MIN_SDK))?;
    Some(u32::from_le_bytes(value.try_into().ok()?))
}

/// Whether the signers of v3 and v3.1 are for all the platform levels that they have to be for, and the two
/// schemes agree on where one ends and the other begins.
fn check_levels(one: &Read<'_>, read: &[Read<'_>], package: &Package, faults: &mut Vec<SignatureFault>) {
    if one.scheme == Scheme::V2 || one.signers().is_empty() {
        return;
    }
    let rotation = rotation_level(read);
    let ranges = one.ranges();
    let begins = ranges.iter().map(|range| *range.start()).min().unwrap_or(0);
    let found = if one.scheme == Scheme::V3 {
        let min_sdk = package.manifest.as_ref().map_or(1, |manifest| manifest.min_sdk.level().unwrap_or(1));
        let last = rotation::last_level(rotation);
        rotation::check_ranges(&ranges, rotation::first_level(min_sdk).min(last), last)
    } else {
        if rotation != Some(begins) {
            faults.push(SignatureFault::RotationLevel { announced: rotation, found: begins });
        }
        rotation::check_ranges(&ranges, begins, signing_block::LAST_SDK)
    };
    faults.extend(found.err().map(SignatureFault::Levels));
}

/// Schemes that another part of the package announces and that are missing.
fn stripped(read: &[Read<'_>], by_v1: &[u32]) -> Vec<Scheme> {
    let has = |scheme: Scheme| read.iter().any(|one| one.scheme == scheme);
    let v2 = read.iter().filter(|one| one.scheme == Scheme::V2).flat_map(Read::signers);
    let by_v2 = v2.filter_map(|signer| {
        Some(u32::from_le_bytes(signer.attribute(ATTRIBUTE_LATER_SCHEME)?.try_into().ok()?))
    });
    let announced: Vec<u32> = by_v1.iter().copied().chain(by_v2).collect();
    let mut out: Vec<Scheme> = [(2, Scheme::V2), (3, Scheme::V3)]
        .into_iter()
        .filter(|(number, scheme)| announced.contains(number) && !has(*scheme))
        .map(|(_, scheme)| scheme)
        .collect();
    if rotation_level(read).is_some() && !has(Scheme::V31) {
        out.push(Scheme::V31);
    }
    out
}

/// The content's digests, one for each hash.
struct Content<'a> {
    hashes: &'a [Hash],
    digests: &'a [Vec<u8>],
}

/// The hashes that the signers' digests are made with, in ascending strength.
fn wanted_hashes<'a>(signers: impl Iterator<Item = &'a BlockSigner<'a>>) -> Vec<Hash> {
    let ids = signers.flat_map(|signer| signer.digests.iter().map(|(id, _)| *id));
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
    let body_end = archive.body_end;
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

/// The digest of the strongest hash that a signer names.
fn strongest(signer: &BlockSigner<'_>) -> Option<Vec<u8>> {
    let known =
        signer.digests.iter().filter_map(|(id, digest)| Some((V2Algorithm::by_id(*id)?.hash, digest)));
    known.max_by_key(|(hash, _)| *hash).map(|(_, digest)| digest.to_vec())
}

fn check_signer(
    scheme: Scheme,
    signer: &BlockSigner<'_>,
    content: &Content<'_>,
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
                scheme,
                certificate_fingerprint: sha256_hex(&certificate.der),
                key_fingerprint: sha256_hex(&certificate.public_key),
                content: strongest(signer),
                certificate,
            });
        }
        Some(Err(error)) => faults.push(SignatureFault::Certificate(error)),
        None => faults.push(SignatureFault::KeyNotInCertificate),
    }
    if let (Some(value), Some(own)) = (signer.attribute(ATTRIBUTE_LINEAGE), signer.certificates.first()) {
        match rotation::verify_lineage(value, own, limits) {
            Ok(keys) => out.lineage = keys,
            Err(fault) => faults.push(SignatureFault::Lineage(fault)),
        }
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
        let at = content.hashes.iter().position(|hash| *hash == algorithm.hash);
        let found = at.and_then(|at| content.digests.get(at));
        if found.map(Vec::as_slice) != Some(*digest) {
            faults.push(SignatureFault::Content);
        }
    }
}
