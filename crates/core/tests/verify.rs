//! What a signature can be wrong in: every fault of a signing block is named for what it is.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

mod common;

use common::{identity, sign, v2_value, verified, with_block};
use ninekeys_core::android::{Scheme, SchemeState, SignatureFault};
use ninekeys_core::demo::CROSSING;
use ninekeys_core::keys::{Algorithm, PrivateKey, SignatureKind, Signer};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::signing_block::signer::{parse_v2, parse_v3};
use ninekeys_formats::signing_block::{self, V2, V3};
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
    fn with_data(&self, signed: &[u8], algorithm: u32) -> Vec<u8> {
        let signature = self.key.sign(SignatureKind::EcdsaSha256, signed).unwrap();
        self.with_value(value(&[(signed, &[(algorithm, &signature)], self.key.public().as_der())]))
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
        let schemes: Vec<Scheme> = signatures.schemes.iter().map(|report| report.scheme).collect();
        assert_eq!(schemes, [Scheme::V2, Scheme::V3], "{name}");
        assert_eq!(signatures.schemes[1].state, SchemeState::Verified, "{name}");
        assert_eq!(signatures.stripped, [], "{name}");
        assert_eq!(package.archive.faults, [], "{name}");
        assert_eq!(signatures.signers[0].key_fingerprint, key.public().fingerprint(), "{name}");
        assert_eq!(signatures.signers[0].certificate.der, certificate, "{name}");
        assert!(package.misaligned().is_empty(), "{name}");
    }
}

#[test]
fn a_block_that_is_put_back_unchanged_is_verified_with_and_without_the_closing_zeros() {
    let f = fixture();
    let alone = f.with_value(v2_value(&f.signed));
    assert_eq!(state(&alone), SchemeState::Verified);
    assert_eq!(verified(&alone).1.stripped, [Scheme::V3], "our v2 announces v3");
    let bare = data(&[(0x0201, &f.digest)], &[&f.certificate], &[]);
    assert_eq!(state(&f.with_data(&bare, 0x0201)), SchemeState::Verified);
    assert_eq!(state(&f.with_data(&bare[..bare.len() - 4], 0x0201)), SchemeState::Verified);
}

#[test]
fn a_wrong_signature_and_changed_content_are_two_things() {
    let f = fixture();
    let bare = data(&[(0x0201, &f.digest)], &[&f.certificate], &[]);
    let mut signature = f.key.sign(SignatureKind::EcdsaSha256, &bare).unwrap();
    let last = signature.len() - 1;
    signature[last] ^= 1;
    let bytes = f.with_value(value(&[(&bare, &[(0x0201, &signature)], f.key.public().as_der())]));
    assert_eq!(faults(&bytes), [SignatureFault::Signature(0x0201)]);
    let other = data(&[(0x0201, &[7; 32])], &[&f.certificate], &[]);
    assert_eq!(faults(&f.with_data(&other, 0x0201)), [SignatureFault::Content]);
}

#[test]
fn a_digest_of_the_wrong_length_is_no_digest() {
    let f = fixture();
    let short = data(&[(0x0201, &f.digest[..31])], &[&f.certificate], &[]);
    assert_eq!(faults(&f.with_data(&short, 0x0201)), [SignatureFault::Content]);
    let empty = data(&[(0x0201, &[])], &[&f.certificate], &[]);
    assert_eq!(faults(&f.with_data(&empty, 0x0201)), [SignatureFault::Content]);
}

#[test]
fn a_key_that_is_not_the_certificates_is_refused() {
    let f = fixture();
    let (other, _) = identity(Algorithm::P256, common::NOW, 30);
    let bare = data(&[(0x0201, &f.digest)], &[&f.certificate], &[]);
    let signature = other.sign(SignatureKind::EcdsaSha256, &bare).unwrap();
    let bytes = f.with_value(value(&[(&bare, &[(0x0201, &signature)], other.public().as_der())]));
    assert_eq!(faults(&bytes), [SignatureFault::KeyNotInCertificate]);
}

#[test]
fn certificates_and_keys_that_cannot_be_read_are_named() {
    let f = fixture();
    let bare = data(&[(0x0201, &f.digest)], &[b"no certificate"], &[]);
    assert!(matches!(faults(&f.with_data(&bare, 0x0201))[..], [SignatureFault::Certificate(_)]));
    let bare = data(&[(0x0201, &f.digest)], &[&f.certificate], &[]);
    let signature = f.key.sign(SignatureKind::EcdsaSha256, &bare).unwrap();
    let bytes = f.with_value(value(&[(&bare, &[(0x0201, &signature)], b"no key")]));
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
    let first = data(&[(0x0201, &f.digest)], &[&f.certificate], &[]);
    let second = data(&[(0x0103, &f.digest)], &[&certificate], &[]);
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
    let bare = data(&[(0x0201, &f.digest)], &[&f.certificate], &[]);
    let signature = f.key.sign(SignatureKind::EcdsaSha256, &bare).unwrap();
    let pairs: &[(u32, &[u8])] = &[(0x0201, &signature)];
    let signer = (bare.as_slice(), pairs, f.key.public().as_der());
    assert_eq!(state(&f.with_value(value(&vec![signer; 10]))), SchemeState::Verified);
    let eleven = faults(&f.with_value(value(&vec![signer; 11])));
    assert!(matches!(&eleven[..], [SignatureFault::Malformed(e)] if e.what == "signers"), "{eleven:?}");
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
    let mut bare = data(&[(0x0201, &f.digest)], &[&f.certificate], &[]);
    bare.extend_from_slice(&[0; 2]);
    assert!(matches!(faults(&f.with_data(&bare, 0x0201))[..], [SignatureFault::Malformed(_)]));
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
    let third = &signatures.schemes[1].state;
    assert!(
        matches!(third, SchemeState::Broken(f) if matches!(f[..], [SignatureFault::Malformed(_)])),
        "{third:?}"
    );
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

/// Signed data of the third scheme.
fn v3_data(f: &Fixture, sdk: &std::ops::RangeInclusive<u32>, attributes: &[(u32, Vec<u8>)]) -> Vec<u8> {
    signing_block::signer::v3_signed_data(0x0201, &f.digest, &f.certificate, sdk, attributes)
}

/// The package with v3 signers over these signed data, each for its range, by our key.
fn with_v3(
    f: &Fixture,
    id: u32,
    signers: &[(Vec<u8>, std::ops::RangeInclusive<u32>)],
) -> Vec<(u32, Vec<u8>)> {
    let all: Vec<u8> = signers
        .iter()
        .flat_map(|(data, sdk)| {
            let signature = f.key.sign(SignatureKind::EcdsaSha256, data).unwrap();
            let value =
                signing_block::signer::v3_value(data, sdk, 0x0201, &signature, f.key.public().as_der());
            // the value is a list of one: take the signer out of it
            value[4..].to_vec()
        })
        .collect();
    vec![(V2, v2_value(&f.signed)), (id, lp(&all))]
}

fn v3_state(bytes: &[u8], scheme: Scheme) -> SchemeState {
    let (_, signatures) = verified(bytes);
    signatures.schemes.iter().find(|report| report.scheme == scheme).unwrap().state.clone()
}

#[test]
fn v3_signers_are_for_all_levels_and_say_so_twice() {
    use ninekeys_core::android::RangeFault;
    let f = fixture();
    let last = signing_block::LAST_SDK;
    let state = |ranges: &[std::ops::RangeInclusive<u32>]| {
        let signers: Vec<_> = ranges.iter().map(|sdk| (v3_data(&f, sdk, &[]), sdk.clone())).collect();
        v3_state(&with_block(&f.signed, &with_v3(&f, V3, &signers)), Scheme::V3)
    };
    let broken = |fault| SchemeState::Broken(vec![SignatureFault::Levels(fault)]);
    assert_eq!(state(&[24..=last]), SchemeState::Verified);
    assert_eq!(state(&[24..=30, 31..=last]), SchemeState::Verified);
    assert_eq!(state(&[28..=last]), SchemeState::Verified, "below 28 a device reads v2");
    assert_eq!(state(&[29..=last]), broken(RangeFault::Gap(28)));
    assert_eq!(state(&[24..=30, 32..=last]), broken(RangeFault::Gap(31)));
    assert_eq!(state(&[24..=31, 31..=last]), broken(RangeFault::Overlap(31)));
    assert_eq!(state(&[24..=34]), broken(RangeFault::Gap(35)));
    // the range outside of the signed data is another
    let signers = [(v3_data(&f, &(24..=last), &[]), 24..=last - 1)];
    let other = v3_state(&with_block(&f.signed, &with_v3(&f, V3, &signers)), Scheme::V3);
    assert!(
        matches!(other, SchemeState::Broken(faults) if matches!(faults[..], [SignatureFault::Malformed(_)]))
    );
}

#[test]
fn a_rotation_level_that_is_announced_guards_the_scheme_behind_it() {
    let f = fixture();
    let last = signing_block::LAST_SDK;
    let level = |level: u32| vec![(signing_block::ATTRIBUTE_ROTATION_MIN_SDK, level.to_le_bytes().to_vec())];
    let v3 = |from: u32, end: u32| with_v3(&f, V3, &[(v3_data(&f, &(24..=end), &level(from)), 24..=end)]);
    let v31 = |from: u32| {
        with_v3(&f, signing_block::V31, &[(v3_data(&f, &(from..=last), &[]), from..=last)]).remove(1)
    };
    let (_, alone) = verified(&with_block(&f.signed, &v3(33, 32)));
    assert_eq!(alone.stripped, [Scheme::V31], "announced and taken out");
    for end in [32, last] {
        let good = with_block(&f.signed, &[v3(33, end), vec![v31(33)]].concat());
        assert_eq!(v3_state(&good, Scheme::V3), SchemeState::Verified, "{end}");
        assert_eq!(v3_state(&good, Scheme::V31), SchemeState::Verified, "{end}");
        assert_eq!(verified(&good).1.stripped, []);
    }
    let differs = with_block(&f.signed, &[v3(33, 32), vec![v31(34)]].concat());
    let fault = SignatureFault::RotationLevel { announced: Some(33), found: 34 };
    assert_eq!(v3_state(&differs, Scheme::V31), SchemeState::Broken(vec![fault]));
    let plain = with_v3(&f, V3, &[(v3_data(&f, &(24..=last), &[]), 24..=last)]);
    let unannounced = with_block(&f.signed, &[plain, vec![v31(33)]].concat());
    let fault = SignatureFault::RotationLevel { announced: None, found: 33 };
    assert_eq!(v3_state(&unannounced, Scheme::V31), SchemeState::Broken(vec![fault]));
}

/// A lineage of two keys, of which the second is the fixture's; `spoil` changes its nodes before writing.
fn lineage_of(f: &Fixture, spoil: impl Fn(&mut Vec<(Vec<u8>, u32, u32, Vec<u8>)>)) -> Vec<u8> {
    use ninekeys_formats::signing_block::lineage::{signed_part, write};
    let (old, certificate) = identity(Algorithm::Rsa2048, common::NOW, 30);
    let first = signed_part(&certificate, 0);
    let second = signed_part(&f.certificate, 0x0103);
    let signature = old.sign(SignatureKind::RsaSha256, &second).unwrap();
    let mut nodes = vec![(first, 0x17, 0x0103, Vec::new()), (second, 0x17, 0, signature)];
    spoil(&mut nodes);
    write(&nodes)
}

#[test]
fn a_lineage_links_its_keys_and_every_fault_in_it_is_named() {
    use ninekeys_core::android::LineageFault;
    use ninekeys_formats::signing_block::lineage::signed_part;
    let f = fixture();
    let last = signing_block::LAST_SDK;
    let report = |lineage: Vec<u8>| {
        let attributes = vec![(signing_block::ATTRIBUTE_LINEAGE, lineage)];
        let signer = (v3_data(&f, &(24..=last), &attributes), 24..=last);
        verified(&with_block(&f.signed, &with_v3(&f, V3, &[signer]))).1
    };
    let good = report(lineage_of(&f, |_| {}));
    assert_eq!(good.schemes[1].state, SchemeState::Verified);
    assert_eq!(good.lineage.len(), 2);
    assert_eq!(good.lineage[1].key_fingerprint, f.key.public().fingerprint());
    let fault = |lineage: Vec<u8>| match report(lineage).schemes[1].state.clone() {
        SchemeState::Broken(faults) => match &faults[..] {
            [SignatureFault::Lineage(fault)] => fault.clone(),
            other => panic!("{other:?}"),
        },
        other => panic!("{other:?}"),
    };
    assert_eq!(fault(lineage_of(&f, |nodes| nodes[1].3[9] ^= 1)), LineageFault::Signature(1));
    assert_eq!(fault(lineage_of(&f, |nodes| nodes[0].2 = 0x0104)), LineageFault::Algorithm(1));
    assert_eq!(fault(lineage_of(&f, |nodes| nodes.truncate(1))), LineageFault::NotTheSigner);
    assert_eq!(
        fault(lineage_of(&f, |nodes| nodes[0].0 = signed_part(b"x", 0))),
        LineageFault::Certificate(1)
    );
    let twice = |nodes: &mut Vec<(Vec<u8>, u32, u32, Vec<u8>)>| nodes[0].0 = signed_part(&f.certificate, 0);
    assert_eq!(fault(lineage_of(&f, twice)), LineageFault::Twice(2));
    let unknown = |nodes: &mut Vec<(Vec<u8>, u32, u32, Vec<u8>)>| {
        nodes[0].2 = 0x0301;
        nodes[1].0 = signed_part(&f.certificate, 0x0301);
    };
    assert_eq!(fault(lineage_of(&f, unknown)), LineageFault::Unsupported(1, 0x0301));
    let mut other_version = lineage_of(&f, |_| {});
    other_version[0] = 2;
    assert!(matches!(fault(other_version), LineageFault::Malformed(_)));
    let mut behind = lineage_of(&f, |_| {});
    behind.push(0);
    assert!(matches!(fault(behind), LineageFault::Malformed(_)));
}

#[test]
fn a_v3_value_in_a_package_is_read_as_it_was_written() {
    let f = fixture();
    let package = ninekeys_core::android::Package::read(&f.signed, &Limits::USUAL).unwrap();
    let block = package.block.unwrap();
    let signers = parse_v3(block.find(V3).unwrap(), &Limits::USUAL).unwrap();
    assert_eq!(signers.len(), 1);
    assert_eq!(signers[0].sdk, Some(24..=signing_block::LAST_SDK));
    assert_eq!(signers[0].digests, [(0x0201, f.digest.as_slice())]);
    assert!(signers[0].attributes.is_empty());
    let v2 = parse_v2(block.find(V2).unwrap(), &Limits::USUAL).unwrap();
    assert_eq!(v2[0].attribute(signing_block::ATTRIBUTE_LATER_SCHEME), Some(3u32.to_le_bytes().as_slice()));
}
