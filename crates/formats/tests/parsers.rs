//! Whatever bytes come in, every parser returns: random bytes, and real files with bytes changed.

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
    fuzzing::jar(bytes);
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
}
