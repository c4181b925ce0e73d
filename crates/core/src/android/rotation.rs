//! Rotation: proofs that one key handed over to another, and the platform levels that signers are for.

use std::ops::RangeInclusive;

use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::signing_block::LAST_SDK;
use ninekeys_formats::signing_block::lineage::{self, Node};
use ninekeys_formats::x509::Certificate;
use thiserror::Error;

use super::algorithm::V2Algorithm;
use crate::digest::sha256_hex;
use crate::keys::{KeyError, PublicKey, Signer, verify};

/// The level from which on every device reads v3, whatever an app asks for.
const FIRST_SDK_WITH_V3: u32 = 28;

/// A key of a verified lineage.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LineageKey {
    /// SHA-256 of the public key.
    pub key_fingerprint: String,
    /// SHA-256 of the certificate.
    pub certificate_fingerprint: String,
    /// The certificate's subject.
    pub subject: String,
    /// What the key may still do after its successor took over.
    pub flags: u32,
}

/// What is wrong with a lineage. Nodes count from 1, the oldest.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum LineageFault {
    /// It cannot be read.
    #[error("it cannot be read: {0}")]
    Malformed(ParseError),
    /// A certificate cannot be read.
    #[error("the certificate of key {0} cannot be read")]
    Certificate(usize),
    /// The same certificate stands in it twice.
    #[error("the certificate of key {0} stands in it twice")]
    Twice(usize),
    /// A node names another algorithm than the one before signed with.
    #[error("key {0} hands over by another algorithm than the key after it names")]
    Algorithm(usize),
    /// The hand-over cannot be verified.
    #[error("the hand-over from key {0} uses the algorithm {1:#06x}, which cannot be verified")]
    Unsupported(usize, u32),
    /// The hand-over is not signed by the key before.
    #[error("key {0} did not sign the hand-over to the key after it")]
    Signature(usize),
    /// It does not end with the signer.
    #[error("its last key is not the signer's")]
    NotTheSigner,
}

/// Verifies a proof of rotation that has to end with the certificate `signer`; every hand-over is signed by the
/// key before. Returns the keys, oldest first.
///
/// # Errors
/// [`LineageFault`], the first that is found.
pub fn verify_lineage(value: &[u8], signer: &[u8], limits: &Limits) -> Result<Vec<LineageKey>, LineageFault> {
    let nodes = lineage::parse(value, limits).map_err(LineageFault::Malformed)?;
    let mut keys = Vec::new();
    let mut before: Option<(&Node<'_>, PublicKey)> = None;
    for (index, node) in nodes.iter().enumerate() {
        let number = index + 1;
        let unreadable = LineageFault::Certificate(number);
        let certificate = Certificate::parse(node.certificate, limits).map_err(|_| unreadable.clone())?;
        let key = PublicKey::from_der(&certificate.public_key).map_err(|_| unreadable)?;
        if nodes.iter().take(index).any(|earlier| earlier.certificate == node.certificate) {
            return Err(LineageFault::Twice(number));
        }
        if let Some((parent, parent_key)) = &before {
            hand_over(index, parent, parent_key, node)?;
        }
        keys.push(LineageKey {
            key_fingerprint: sha256_hex(&certificate.public_key),
            certificate_fingerprint: sha256_hex(&certificate.der),
            subject: certificate.subject,
            flags: node.flags,
        });
        before = Some((node, key));
    }
    match nodes.last() {
        Some(last) if last.certificate == signer => Ok(keys),
        _ => Err(LineageFault::NotTheSigner),
    }
}

/// What an old key may still do by default: everything but take an app back to it.
pub const USUAL_FLAGS: u32 = 0x17;

/// A proof of rotation as it is made: the keys that handed over to each other, oldest first. Every step was signed by
/// the key before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lineage {
    nodes: Vec<(Vec<u8>, u32, u32, Vec<u8>)>,
    last: Vec<u8>,
}

impl Lineage {
    /// Begins with the first key's certificate.
    pub fn begin(certificate: &[u8]) -> Self {
        let first = (lineage::signed_part(certificate, 0), USUAL_FLAGS, 0, Vec::new());
        Lineage { nodes: vec![first], last: certificate.to_vec() }
    }

    /// Reads a lineage that is verified on the way; its last certificate is whose it is.
    ///
    /// # Errors
    /// [`LineageFault`].
    pub fn read(value: &[u8], limits: &Limits) -> Result<Self, LineageFault> {
        let nodes = lineage::parse(value, limits).map_err(LineageFault::Malformed)?;
        let last = nodes.last().map(|node| node.certificate.to_vec()).unwrap_or_default();
        verify_lineage(value, &last, limits)?;
        let node = |node: &Node<'_>| {
            (node.signed.to_vec(), node.flags, node.next_algorithm, node.signature.to_vec())
        };
        Ok(Lineage { nodes: nodes.iter().map(node).collect(), last })
    }

    /// Hands over to another key: `by` is the key of the last certificate, `flags` say what it may still do.
    ///
    /// # Errors
    /// [`KeyError`] when the key signs with no algorithm of the scheme, or refuses.
    pub fn extend(mut self, by: &dyn Signer, to: &[u8], flags: u32) -> Result<Self, KeyError> {
        let shape = by.public().shape();
        let algorithm =
            V2Algorithm::for_key(shape).ok_or_else(|| KeyError::NoSignatures(shape.to_string()))?;
        let signed = lineage::signed_part(to, algorithm.id);
        let signature = by.sign(algorithm.signature, &signed)?;
        if let Some((_, old_flags, next, _)) = self.nodes.last_mut() {
            *old_flags = flags;
            *next = algorithm.id;
        }
        self.nodes.push((signed, USUAL_FLAGS, 0, signature));
        self.last = to.to_vec();
        Ok(self)
    }

    /// The bytes, as the signing block has them.
    pub fn to_bytes(&self) -> Vec<u8> {
        lineage::write(&self.nodes)
    }

    /// The certificate that it ends with.
    pub fn last(&self) -> &[u8] {
        &self.last
    }
}

/// Verifies the step from the key `number` to the one after it.
fn hand_over(number: usize, parent: &Node<'_>, key: &PublicKey, node: &Node<'_>) -> Result<(), LineageFault> {
    if node.parent_algorithm != parent.next_algorithm {
        return Err(LineageFault::Algorithm(number));
    }
    let unsupported = LineageFault::Unsupported(number, parent.next_algorithm);
    let algorithm = V2Algorithm::by_id(parent.next_algorithm).ok_or_else(|| unsupported.clone())?;
    match verify(key, algorithm.signature, node.signed, node.signature) {
        Some(true) => Ok(()),
        Some(false) => Err(LineageFault::Signature(number)),
        None => Err(unsupported),
    }
}

/// What is wrong with the platform levels of the signers of one scheme.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum RangeFault {
    /// Two signers are for the same level.
    #[error("two signers are for SDK {0}")]
    Overlap(u32),
    /// No signer is for a level.
    #[error("no signer is for SDK {0}")]
    Gap(u32),
}

/// Checks that the ranges are disjoint, have no gap, begin at or below `first` and end at or above `last`.
///
/// # Errors
/// [`RangeFault`] with the level.
pub fn check_ranges(ranges: &[RangeInclusive<u32>], first: u32, last: u32) -> Result<(), RangeFault> {
    let mut sorted: Vec<&RangeInclusive<u32>> = ranges.iter().collect();
    sorted.sort_by_key(|range| *range.start());
    let mut next = sorted.first().map_or(0, |range| *range.start());
    if next > first {
        return Err(RangeFault::Gap(first));
    }
    for range in sorted {
        if *range.start() < next {
            return Err(RangeFault::Overlap(*range.start()));
        }
        if *range.start() > next {
            return Err(RangeFault::Gap(next));
        }
        next = range.end().saturating_add(1);
    }
    if next <= last { Err(RangeFault::Gap(next)) } else { Ok(()) }
}

/// The first level that v3 signers have to be for, in a package for `min_sdk` on.
pub(super) fn first_level(min_sdk: u32) -> u32 {
    min_sdk.max(FIRST_SDK_WITH_V3)
}

/// The last level that v3 signers have to be for, when v3.1 takes over from `rotation` on.
pub(super) fn last_level(rotation: Option<u32>) -> u32 {
    rotation.map_or(LAST_SDK, |from| from.saturating_sub(1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_disjoint_without_gap_and_reach_both_ends() {
        let check = |ranges: &[RangeInclusive<u32>]| check_ranges(ranges, 28, LAST_SDK);
        assert_eq!(check(&[24..=LAST_SDK]), Ok(()));
        assert_eq!(check(&[33..=LAST_SDK, 24..=32]), Ok(()));
        assert_eq!(check(&[24..=32, 34..=LAST_SDK]), Err(RangeFault::Gap(33)));
        assert_eq!(check(&[24..=33, 33..=LAST_SDK]), Err(RangeFault::Overlap(33)));
        assert_eq!(check(&[29..=LAST_SDK]), Err(RangeFault::Gap(28)));
        assert_eq!(check(&[24..=34]), Err(RangeFault::Gap(35)));
        assert_eq!(check(&[]), Err(RangeFault::Gap(0)));
    }
}
