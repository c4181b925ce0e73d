//! The forms that stand beside packages: a manifest in two encodings, resource tables, v4 files, signed messages.

#![allow(clippy::unwrap_used, missing_docs, reason = "tests fail by panicking")]

use ninekeys_formats::arsc;
use ninekeys_formats::axml::write::Node;
use ninekeys_formats::axml::{self, Value};
use ninekeys_formats::cms::{self, NewSigner, signed_attributes};
use ninekeys_formats::idsig;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::protoxml;
use proptest::collection::vec;
use proptest::prelude::*;

fn value() -> impl Strategy<Value = Value> {
    prop_oneof![
        "[ -~]{0,16}".prop_map(Value::Text),
        any::<u32>().prop_map(Value::Number),
        any::<bool>().prop_map(Value::Boolean),
        (0x7f01_0000u32..0x7f01_ffff).prop_map(Value::Reference),
    ]
}

/// `SEQUENCE { algorithm }` of these identifiers' content bytes.
fn algorithm(oid: &[u8]) -> Vec<u8> {
    [&[0x30, oid.len() as u8 + 2, 0x06, oid.len() as u8][..], oid].concat()
}

const SHA256: &[u8] = &[0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01];
const ECDSA_SHA256: &[u8] = &[0x2a, 0x86, 0x48, 0xce, 0x3d, 0x04, 0x03, 0x02];
/// A name without any part.
const ISSUER: &[u8] = &[0x30, 0x00];
const SERIAL: &[u8] = &[0x02, 0x01, 0x07];
const CERTIFICATE: &[u8] = &[0x30, 0x03, 0x02, 0x01, 0x01];

proptest! {
    #[test]
    fn a_manifest_says_the_same_in_both_encodings(values in vec(value(), 1..6), children in 0usize..4) {
        let mut root = Node::new("manifest").plain("package", "example.gannetpoint.crossing");
        for (at, value) in values.iter().enumerate() {
            root = root.platform(0x0101_0001 + at as u32, &format!("attribute{at}"), value.clone());
        }
        let child = |root: Node, at: usize| root.child(Node::new(&format!("child{at}")).child(Node::new("leaf")));
        let root = (0..children).fold(root, child);
        let binary = axml::parse(&axml::write::write(&root), &Limits::USUAL).unwrap();
        let proto = protoxml::parse(&protoxml::write::write(&root), &Limits::USUAL).unwrap();
        prop_assert_eq!(binary.len(), proto.len());
        for (one, other) in binary.iter().zip(&proto) {
            prop_assert_eq!((&one.name, one.depth), (&other.name, other.depth));
        }
        let (one, other) = (binary.first().unwrap(), proto.first().unwrap());
        for (at, wanted) in values.iter().enumerate() {
            let id = 0x0101_0001 + at as u32;
            prop_assert_eq!(one.by_id(id), Some(wanted));
            prop_assert_eq!(other.by_id(id), Some(wanted));
        }
        prop_assert_eq!(one.by_name("package"), other.by_name("package"));
    }

    #[test]
    fn a_resource_counts_where_it_is_the_same_in_every_configuration(
        usual in vec(any::<u32>(), 1..6),
        which in any::<prop::sample::Index>(),
        other in any::<u32>(),
    ) {
        let ids: Vec<u32> = (0..usual.len() as u32).map(|entry| 0x7f01_0000 + entry).collect();
        let entries = |numbers: &[u32]| numbers.iter().map(|number| Some(Value::Number(*number))).collect::<Vec<_>>();
        let alone = arsc::values(&arsc::write::table(&[entries(&usual)]), &ids, &Limits::USUAL).unwrap();
        for (id, number) in ids.iter().zip(&usual) {
            prop_assert_eq!(alone.get(id), Some(&Value::Number(*number)));
        }
        let at = which.index(usual.len());
        let mut second = usual.clone();
        second[at] = other;
        let both = arsc::values(&arsc::write::table(&[entries(&usual), entries(&second)]), &ids, &Limits::USUAL).unwrap();
        for (index, (id, number)) in ids.iter().zip(&usual).enumerate() {
            let wanted = (index != at || other == *number).then_some(Value::Number(*number));
            prop_assert_eq!(both.get(id).cloned(), wanted);
        }
        prop_assert!(!alone.contains_key(&0x7f02_0000), "what is not in it has no value");
    }

    #[test]
    fn a_v4_file_comes_back_and_every_cut_of_it_is_refused(
        root in vec(any::<u8>(), 32),
        signature in vec(any::<u8>(), 0..90),
        tree in vec(any::<u8>(), 0..200),
        rotated in any::<bool>(),
        cut in any::<prop::sample::Index>(),
    ) {
        let signer = idsig::Signer {
            content: b"content digest",
            certificate: b"certificate",
            additional: b"",
            public_key: b"key",
            algorithm: 0x0201,
            signature: &signature,
        };
        let signers = vec![signer; if rotated { 2 } else { 1 }];
        let bytes = idsig::write(&root, &signers, &tree);
        let read = idsig::parse(&bytes, &Limits::USUAL).unwrap();
        prop_assert_eq!((read.root, read.tree, &read.signers), (root.as_slice(), tree.as_slice(), &signers));
        // a file may have no tree at all: a cut just before it leaves such a one
        let shorter = &bytes[..cut.index(bytes.len())];
        let cut_off = idsig::parse(shorter, &Limits::USUAL);
        prop_assert!(cut_off.is_err() || shorter.len() + 4 + tree.len() == bytes.len());
        prop_assert!(idsig::parse(&[bytes.as_slice(), &[0]].concat(), &Limits::USUAL).is_err());
    }

    #[test]
    fn a_signed_message_comes_back_with_or_without_content_and_attributes(
        content in proptest::option::of(vec(any::<u8>(), 0..100)),
        digest in vec(any::<u8>(), 32),
        with_attributes in any::<bool>(),
        chain in 0usize..4,
        cut in any::<prop::sample::Index>(),
    ) {
        let attributes = signed_attributes(&digest, &[]).unwrap();
        let signer = NewSigner {
            issuer: ISSUER,
            serial: SERIAL,
            digest: &algorithm(SHA256),
            algorithm: &algorithm(ECDSA_SHA256),
            attributes: with_attributes.then_some(attributes.as_slice()),
            signature: b"signature",
            unsigned: &[],
        };
        let bytes = cms::write(content.as_deref(), &vec![CERTIFICATE; chain], &signer).unwrap();
        let read = cms::parse(&bytes, &Limits::USUAL).unwrap();
        prop_assert_eq!((&read.content, read.certificates.len()), (&content, chain));
        let [one] = read.signers.as_slice() else { panic!("{read:?}") };
        prop_assert_eq!(one.signature.as_slice(), b"signature");
        let read_back = one.attributes.as_ref().map(|all| (all.signed.clone(), all.message_digest.clone()));
        prop_assert_eq!(read_back, with_attributes.then(|| (attributes.clone(), digest.clone())));
        prop_assert!(cms::parse(&bytes[..cut.index(bytes.len())], &Limits::USUAL).is_err());
    }
}

#[test]
fn a_message_with_too_many_certificates_or_of_another_kind_is_refused() {
    let signer = NewSigner {
        issuer: ISSUER,
        serial: SERIAL,
        digest: &algorithm(SHA256),
        algorithm: &algorithm(ECDSA_SHA256),
        attributes: None,
        signature: b"signature",
        unsigned: &[],
    };
    let of = |chain: usize| cms::write(None, &vec![CERTIFICATE; chain], &signer).unwrap();
    let most = Limits::USUAL.signers as usize;
    assert!(cms::parse(&of(most), &Limits::USUAL).is_ok());
    assert!(cms::parse(&of(most + 1), &Limits::USUAL).is_err());
    let mut other = of(1);
    let at =
        other.windows(9).position(|w| w == [0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02]).unwrap();
    other[at + 8] = 3;
    assert!(cms::parse(&other, &Limits::USUAL).is_err(), "enveloped, not signed");
    // what is signed has one signer at least
    let mut nobody = of(0);
    let last = nobody.len() - 1;
    nobody.truncate(last);
    assert!(cms::parse(&nobody, &Limits::USUAL).is_err());
    let small = Limits { certificate: 8, signers: 2, ..Limits::USUAL };
    assert!(cms::parse(&of(1), &small).is_err(), "larger than is read");
}
