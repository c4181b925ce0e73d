//! What a signature can be wrong in: every fault of a signing block is named for what it is.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

mod common;

use common::{identity, sign, v2_value, verified, with_block};
use ninekeys_core::android::{Scheme, SchemeState, SignatureFault};
use ninekeys_core::demo::CROSSING;
use ninekeys_core::keys::{Algorithm, PrivateKey, SignatureKind, Signer};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::signing_block::{self, V2, V3, parse_v2, v2_signed_data};
use ninekeys_formats::zip::write::Writer;

struct Fixture {
    signed: Vec<u8>,
    key: PrivateKey,
    certificate: Vec<u8>,
    digest: Vec<u8>,
}

fn fixture() -> Fixture {
    let (key, certificate) = identity(Algorithm::P256, common::NOW, 30);
    let signed = sign(&CROSSING.apk(), &key, &certificate);
    let value = v2_value(&signed);
    let digest = parse_v2(&value, &Limits::USUAL).unwrap()[0].digests[0].1.to_vec();
    Fixture { signed, key, certificate, digest }
}

impl Fixture {
    /// The package with this v2 value in place of its own.
    fn with_value(&self, value: Vec<u8>) -> Vec<u8> {
        with_block(&self.signed, &[(V2, value)])
    }

    /// The package signed over this signed data with our key.
    fn with_data(&self, data: &[u8], algorithm: u32) -> Vec<u8> {
        let signature = self.key.sign(SignatureKind::EcdsaSha256, data).unwrap();
        self.with_value(value(&[(data, &[(algorithm, &signature)], self.key.public().as_der())]))
    }
}

fn lp(bytes: &[u8]) -> Vec<u8> {
    [&(bytes.len() as u32).to_le_bytes(), bytes].concat()
}

/// A v2 value of several signers: signed data, signatures, public key.
#[allow(clippy::type_complexity, reason = "three fields of a format, spelled out")]
fn value(signers: &[(&[u8], &[(u32, &[u8])], &[u8])]) -> Vec<u8> {
    let all: Vec<u8> = signers
        .iter()
        .flat_map(|(data, signatures, public)| {
            let signatures: Vec<u8> = signatures
                .iter()
                .flat_map(|(id, bytes)| lp(&[id.to_le_bytes().to_vec(), lp(bytes)].concat()))
                .collect();
            lp(&[lp(data), lp(&signatures), lp(public)].concat())
        })
        .collect();
    lp(&all)
}

/// Signed data with several digests, several certificates and attributes.
fn data(digests: &[(u32, &[u8])], certificates: &[&[u8]], attributes: &[(u32, &[u8])]) -> Vec<u8> {
    let digests: Vec<u8> =
        digests.iter().flat_map(|(id, bytes)| lp(&[id.to_le_bytes().to_vec(), lp(bytes)].concat())).collect();
    let certificates: Vec<u8> = certificates.iter().flat_map(|certificate| lp(certificate)).collect();
    let attributes: Vec<u8> =
        attributes.iter().flat_map(|(id, bytes)| lp(&[&id.to_le_bytes(), *bytes].concat())).collect();
    [lp(&digests), lp(&certificates), lp(&attributes), vec![0; 4]].concat()
}

fn state(bytes: &[u8]) -> SchemeState {
    let (_, signatures) = verified(bytes);
    signatures.schemes.iter().find(|report| report.scheme == Scheme::V2).unwrap().state.clone()
}

fn faults(bytes: &[u8]) -> Vec<SignatureFault> {
    match state(bytes) {
        SchemeState::Broken(faults) => faults,
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_signature_of_every_algorithm_is_verified() {
    for (name, algorithm) in Algorithm::ALL {
        let (key, certificate) = identity(algorithm, common::NOW, 30);
        let signed = sign(&CROSSING.apk(), &key, &certificate);
        assert_eq!(state(&signed), SchemeState::Verified, "{name}");
        let (package, signatures) = verified(&signed);
        assert_eq!(package.archive.faults, [], "{name}");
        assert_eq!(signatures.signers[0].key_fingerprint, key.public().fingerprint(), "{name}");
        assert_eq!(signatures.signers[0].certificate.der, certificate, "{name}");
        assert!(package.misaligned().is_empty(), "{name}");
    }
}

#[test]
fn a_block_that_is_put_back_unchanged_is_verified_with_and_without_the_closing_zeros() {
    let f = fixture();
    assert_eq!(state(&f.with_value(v2_value(&f.signed))), SchemeState::Verified);
    let data = v2_signed_data(0x0201, &f.digest, &f.certificate);
    assert_eq!(state(&f.with_data(&data, 0x0201)), SchemeState::Verified);
    assert_eq!(state(&f.with_data(&data[..data.len() - 4], 0x0201)), SchemeState::Verified);
}

#[test]
fn a_wrong_signature_and_changed_content_are_two_things() {
    let f = fixture();
    let data = v2_signed_data(0x0201, &f.digest, &f.certificate);
    let mut signature = f.key.sign(SignatureKind::EcdsaSha256, &data).unwrap();
    let last = signature.len() - 1;
    signature[last] ^= 1;
    let bytes = f.with_value(value(&[(&data, &[(0x0201, &signature)], f.key.public().as_der())]));
    assert_eq!(faults(&bytes), [SignatureFault::Signature(0x0201)]);
    let other = v2_signed_data(0x0201, &[7; 32], &f.certificate);
    assert_eq!(faults(&f.with_data(&other, 0x0201)), [SignatureFault::Content]);
}

#[test]
fn a_digest_of_the_wrong_length_is_no_digest() {
    let f = fixture();
    let short = v2_signed_data(0x0201, &f.digest[..31], &f.certificate);
    assert_eq!(faults(&f.with_data(&short, 0x0201)), [SignatureFault::Content]);
    let empty = v2_signed_data(0x0201, &[], &f.certificate);
    assert_eq!(faults(&f.with_data(&empty, 0x0201)), [SignatureFault::Content]);
}

#[test]
fn a_key_that_is_not_the_certificates_is_refused() {
    let f = fixture();
    let (other, _) = identity(Algorithm::P256, common::NOW, 30);
    let data = v2_signed_data(0x0201, &f.digest, &f.certificate);
    let signature = other.sign(SignatureKind::EcdsaSha256, &data).unwrap();
    let bytes = f.with_value(value(&[(&data, &[(0x0201, &signature)], other.public().as_der())]));
    assert_eq!(faults(&bytes), [SignatureFault::KeyNotInCertificate]);
}

#[test]
fn certificates_and_keys_that_cannot_be_read_are_named() {
    let f = fixture();
    let data = v2_signed_data(0x0201, &f.digest, b"no certificate");
    assert!(matches!(faults(&f.with_data(&data, 0x0201))[..], [SignatureFault::Certificate(_)]));
    let data = v2_signed_data(0x0201, &f.digest, &f.certificate);
    let signature = f.key.sign(SignatureKind::EcdsaSha256, &data).unwrap();
    let bytes = f.with_value(value(&[(&data, &[(0x0201, &signature)], b"no key")]));
    assert_eq!(faults(&bytes), [SignatureFault::KeyNotInCertificate, SignatureFault::PublicKey]);
}

#[test]
fn algorithm_lists_have_to_agree_in_order() {
    let f = fixture();
    let one = data(&[(0x0201, &f.digest)], &[&f.certificate], &[]);
    let signature = f.key.sign(SignatureKind::EcdsaSha256, &one).unwrap();
    let strong = f.key.sign(SignatureKind::EcdsaSha512, &one).unwrap();
    let public = f.key.public().as_der();
    let bytes = f.with_value(value(&[(&one, &[(0x0201, &signature), (0x0202, &strong)], public)]));
    assert_eq!(faults(&bytes), [SignatureFault::AlgorithmLists]);
}

#[test]
fn an_algorithm_that_is_not_known_is_never_silent_even_beside_a_good_one() {
    let f = fixture();
    for unknown in [0x0301, 0x0421, 0x0423, 0x9999] {
        let both = data(&[(0x0201, &f.digest), (unknown, &[1; 32])], &[&f.certificate], &[]);
        let signature = f.key.sign(SignatureKind::EcdsaSha256, &both).unwrap();
        let public = f.key.public().as_der();
        let bytes = f.with_value(value(&[(&both, &[(0x0201, &signature), (unknown, b"x")], public)]));
        assert_eq!(faults(&bytes), [SignatureFault::Unsupported(unknown, "EC P-256".into())]);
    }
}

#[test]
fn every_signer_of_several_has_to_be_good() {
    let f = fixture();
    let (other, certificate) = identity(Algorithm::Rsa2048, common::NOW, 30);
    let first = v2_signed_data(0x0201, &f.digest, &f.certificate);
    let second = v2_signed_data(0x0103, &f.digest, &certificate);
    let one = f.key.sign(SignatureKind::EcdsaSha256, &first).unwrap();
    let two = other.sign(SignatureKind::RsaSha256, &second).unwrap();
    let build = |two: &[u8]| {
        f.with_value(value(&[
            (&first, &[(0x0201, &one)], f.key.public().as_der()),
            (&second, &[(0x0103, two)], other.public().as_der()),
        ]))
    };
    assert_eq!(state(&build(&two)), SchemeState::Verified);
    assert_eq!(verified(&build(&two)).1.signers.len(), 2);
    assert_eq!(faults(&build(&[0; 256])), [SignatureFault::Signature(0x0103)]);
}

#[test]
fn more_signers_than_allowed_and_none_at_all_are_malformed() {
    let f = fixture();
    let data = v2_signed_data(0x0201, &f.digest, &f.certificate);
    let signature = f.key.sign(SignatureKind::EcdsaSha256, &data).unwrap();
    let pairs: &[(u32, &[u8])] = &[(0x0201, &signature)];
    let signer = (data.as_slice(), pairs, f.key.public().as_der());
    assert_eq!(state(&f.with_value(value(&vec![signer; 10]))), SchemeState::Verified);
    let eleven = faults(&f.with_value(value(&vec![signer; 11])));
    assert!(matches!(&eleven[..], [SignatureFault::Malformed(e)] if e.what == "v2 signers"), "{eleven:?}");
    assert!(matches!(faults(&f.with_value(value(&[])))[..], [SignatureFault::Malformed(_)]));
}

#[test]
fn bytes_left_over_in_any_list_are_malformed() {
    let f = fixture();
    let good = v2_value(&f.signed);
    for extra in [vec![0], vec![0; 4], lp(&[])] {
        let bytes = f.with_value([good.clone(), extra].concat());
        assert!(matches!(faults(&bytes)[..], [SignatureFault::Malformed(_)]));
    }
    let mut data = v2_signed_data(0x0201, &f.digest, &f.certificate);
    data.extend_from_slice(&[0; 2]);
    assert!(matches!(faults(&f.with_data(&data, 0x0201))[..], [SignatureFault::Malformed(_)]));
}

#[test]
fn a_later_scheme_that_is_announced_has_to_be_there() {
    let f = fixture();
    let announced = |attributes: &[(u32, &[u8])]| data(&[(0x0201, &f.digest)], &[&f.certificate], attributes);
    let three = 3u32.to_le_bytes();
    let stripped = f.with_data(&announced(&[(signing_block::ATTRIBUTE_LATER_SCHEME, &three)]), 0x0201);
    let (_, signatures) = verified(&stripped);
    assert_eq!(signatures.stripped, [Scheme::V3]);
    let value = v2_value(&stripped);
    let with_v3 = with_block(&stripped, &[(V2, value), (V3, vec![0; 4])]);
    let (_, signatures) = verified(&with_v3);
    assert_eq!(signatures.stripped, []);
    assert_eq!(signatures.schemes[1].state, SchemeState::NotVerified, "present is not verified");
    let other = f.with_data(&announced(&[(0x1234_5678, b"whatever")]), 0x0201);
    assert_eq!(state(&other), SchemeState::Verified, "unknown attributes are passed over");
}

#[test]
fn schemes_that_a_v1_signature_file_announces_have_to_be_there() {
    let announce = "Signature-Version: 1.0\r\nX-Android-APK-Signed: 2, 3\r\n\r\n";
    let apk = Writer::new()
        .deflated("AndroidManifest.xml", &CROSSING.manifest())
        .deflated("META-INF/CERT.SF", announce.as_bytes())
        .finish();
    let (_, signatures) = verified(&apk);
    assert_eq!(signatures.stripped, [Scheme::V2, Scheme::V3]);
    assert!(signatures.has(Scheme::V1) && !signatures.has(Scheme::V2));
}

#[test]
fn what_lies_between_block_and_directory_is_stray_and_the_build_unsigned() {
    let f = fixture();
    let (package, _) = verified(&f.signed);
    let start = package.archive.directory.start as usize;
    let mut bytes = [&f.signed[..start], b"four", &f.signed[start..]].concat();
    let end = bytes.len() - 22;
    bytes[end + 16..end + 20].copy_from_slice(&(start as u32 + 4).to_le_bytes());
    let (package, signatures) = verified(&bytes);
    assert!(!signatures.any());
    assert!(!package.archive.faults.is_empty());
}

#[test]
fn unknown_pairs_and_padding_are_covered_by_no_signature() {
    let f = fixture();
    let value = v2_value(&f.signed);
    let with_more = with_block(&f.signed, &[(V2, value), (0x504b_4453, vec![9; 100])]);
    assert_eq!(state(&with_more), SchemeState::Verified);
}
