//! Whatever bytes come in, every parser returns: random bytes, and real files with bytes changed.

#![allow(clippy::unwrap_used, clippy::indexing_slicing, reason = "tests fail by panicking")]

use ninekeys_formats::fuzzing;
use ninekeys_formats::signing_block;
use ninekeys_formats::zip::write::Writer;
use proptest::prelude::*;

fn package() -> Vec<u8> {
    use ninekeys_formats::axml::write::{Node, write};
    let manifest = write(&Node::new("manifest").plain("package", "example.gannetpoint.crossing"));
    Writer::new().deflated("AndroidManifest.xml", &manifest).stored("lib/a.so", &[5; 300]).finish()
}

fn everything(bytes: &[u8]) {
    fuzzing::zip(bytes);
    fuzzing::v2(bytes);
    fuzzing::manifest(bytes);
    fuzzing::certificate(bytes);
    fuzzing::timestamp(bytes);
    fuzzing::jar(bytes);
    fuzzing::protobuf(bytes);
    fuzzing::keystore(bytes);
    fuzzing::definite(bytes);
    fuzzing::tree(bytes);
    fuzzing::resources(bytes);
    fuzzing::envelope(bytes);
    fuzzing::request(bytes);
    fuzzing::profile(bytes);
    fuzzing::revocation(bytes);
    fuzzing::executable(bytes);
    fuzzing::bundle(bytes);
}

fn sample(name: &str) -> Vec<u8> {
    std::fs::read(format!("{}/../../testkit/samples/{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 512, ..ProptestConfig::default() })]

    #[test]
    fn random_bytes_are_survived(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
        everything(&bytes);
    }

    #[test]
    fn changed_packages_are_survived(changes in proptest::collection::vec((any::<usize>(), any::<u8>()), 1..8)) {
        let mut bytes = package();
        let length = bytes.len();
        for (at, value) in changes {
            bytes[at % length] = value;
        }
        fuzzing::zip(&bytes);
    }

    #[test]
    fn changed_blocks_are_survived(at in any::<usize>(), value in any::<u8>()) {
        let data = signing_block::signer::v2_signed_data(0x0103, &[1; 32], &[2; 100], &[3]);
        let mut value_bytes = signing_block::signer::v2_value(&data, 0x0103, &[3; 256], &[4; 90]);
        let length = value_bytes.len();
        value_bytes[at % length] = value;
        fuzzing::v2(&value_bytes);
        fuzzing::v2(&signing_block::write(&[(signing_block::V2, value_bytes)]));
    }

    #[test]
    fn changed_manifests_are_survived(at in any::<usize>(), value in any::<u32>()) {
        use ninekeys_formats::axml::write::{Node, write};
        let mut bytes = write(&Node::new("manifest").plain("package", "example.gannetpoint.crossing"));
        let words = bytes.len() / 4;
        let start = at % words * 4;
        bytes[start..start + 4].copy_from_slice(&value.to_le_bytes());
        fuzzing::manifest(&bytes);
    }

    #[test]
    fn changed_keystores_are_survived(
        changes in proptest::collection::vec((any::<usize>(), any::<u8>()), 1..6),
        cut in any::<prop::sample::Index>(),
    ) {
        for name in ["ferries.jks", "harbour-legacy.p12", "kiosk-modern.p12"] {
            let mut bytes = sample(name);
            let length = bytes.len();
            for (at, value) in &changes {
                bytes[at % length] = *value;
            }
            fuzzing::keystore(&bytes);
            fuzzing::definite(&bytes);
            fuzzing::keystore(&bytes[..cut.index(length)]);
        }
    }

    #[test]
    fn changed_executables_are_survived(
        at in 0..2_000usize,
        value in any::<u32>(),
        behind in any::<prop::sample::Index>(),
    ) {
        for name in ["code/crossing-signed", "code/deckhand-fat"] {
            let mut bytes = sample(name);
            bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
            fuzzing::executable(&bytes);
            let signature = 65_856 + behind.index(6_000);
            bytes[signature] ^= value as u8;
            fuzzing::executable(&bytes[..signature]);
            fuzzing::executable(&bytes);
        }
    }

    #[test]
    fn changed_trees_are_survived(at in 0..1_500usize, value in any::<u32>()) {
        let mut bytes = sample("crossing-signed-v31-v4.apk.idsig");
        bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
        fuzzing::tree(&bytes);
    }

    #[test]
    fn any_nesting_of_lengths_becomes_definite(
        contents in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..300), 0..6),
        depth in 0..12usize,
    ) {
        // OCTET STRINGs in pieces, in so many indefinite sequences
        let mut bytes = vec![0x24, 0x80];
        for piece in &contents {
            bytes.extend([0x04, 0x82, (piece.len() >> 8) as u8, piece.len() as u8]);
            bytes.extend(piece);
        }
        bytes.extend([0, 0]);
        for _ in 0..depth {
            bytes = [&[0x30, 0x80][..], &bytes, &[0, 0]].concat();
        }
        let der = ninekeys_formats::ber::to_definite(&bytes, &ninekeys_formats::limits::Limits::SMALL).unwrap();
        prop_assert!(der.ends_with(&contents.concat()));
        fuzzing::definite(&bytes);
    }

    #[test]
    fn changed_protobuf_is_survived(at in any::<usize>(), value in any::<u8>()) {
        use ninekeys_formats::axml::{Value, write::Node};
        let root = Node::new("manifest").plain("package", "example.gannetpoint.crossing")
            .child(Node::new("application").platform(0x0101_000f, "debuggable", Value::Boolean(true)));
        let mut bytes = ninekeys_formats::protoxml::write::write(&root);
        let length = bytes.len();
        bytes[at % length] = value;
        fuzzing::protobuf(&bytes);
    }
}
