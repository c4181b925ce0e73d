//! What is written is what is read back, whatever is in it; and what is cut, doubled or of another form is refused.

#![allow(clippy::unwrap_used, clippy::expect_used, missing_docs, reason = "tests fail by panicking")]

use std::collections::BTreeMap;
use std::io::Read;

use ninekeys_formats::axml::write::{Node, write as write_xml};
use ninekeys_formats::axml::{self, Value};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::Sdk;
use ninekeys_formats::names::algorithm_name;
use ninekeys_formats::pem;
use ninekeys_formats::signing_block::signer::{
    parse_v2, parse_v3, v2_signed_data, v2_value, v3_signed_data, v3_value,
};
use ninekeys_formats::signing_block::{ATTRIBUTE_LINEAGE, ATTRIBUTE_ROTATION_MIN_SDK, LAST_SDK, lineage};
use ninekeys_formats::source::Source;
use ninekeys_formats::zip::rewrite::{Assembly, Layout, Piece, lay_out};
use ninekeys_formats::zip::write::{Writer, end_record};
use ninekeys_formats::zip::{Archive, Zip64};
use proptest::collection::{btree_map, vec};
use proptest::prelude::*;

/// Entries by name: their content, and whether it is deflated.
fn entries() -> impl Strategy<Value = BTreeMap<String, (Vec<u8>, bool)>> {
    let name = "[a-z][a-z0-9ä-ö]{0,8}(/[a-z][a-z0-9.]{0,5}){0,2}[a-z]";
    btree_map(name, (vec(any::<u8>(), 0..400), any::<bool>()), 1..12)
}

fn archive_of(entries: &BTreeMap<String, (Vec<u8>, bool)>) -> Vec<u8> {
    let write = |writer: Writer, (name, (content, deflated)): (&String, &(Vec<u8>, bool))| match deflated {
        true => writer.deflated(name, content),
        false => writer.stored(name, content),
    };
    entries.iter().fold(Writer::new(), write).finish()
}

/// The contents of an archive by name, and its faults.
fn read_all(bytes: &[u8]) -> (BTreeMap<String, Vec<u8>>, usize) {
    let archive = Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap();
    let read = |entry| archive.read(&bytes, entry, &Limits::USUAL).unwrap();
    let all = archive.entries.iter().map(|entry| (entry.name_text(), read(entry))).collect();
    (all, archive.faults.len())
}

proptest! {
    #[test]
    fn an_archive_and_its_aligned_copy_hold_what_was_put_in(entries in entries(), boundary in 1u64..5000) {
        let wanted: BTreeMap<String, Vec<u8>> =
            entries.iter().map(|(name, (content, _))| (name.clone(), content.clone())).collect();
        let bytes = archive_of(&entries);
        prop_assert_eq!(read_all(&bytes), (wanted.clone(), 0));
        let archive = Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap();
        let Layout { pieces, body, directory, count, .. } = lay_out(&archive, &[], |_| true, |_| boundary);
        let end = end_record(count, directory.len() as u32, body as u32);
        let pieces = pieces.into_iter().chain([Piece::Bytes(directory), Piece::Bytes(end)]);
        let copy = Assembly::new(&bytes, pieces);
        let copy = copy.bytes(0..copy.len(), u64::MAX).unwrap();
        prop_assert_eq!(read_all(&copy), (wanted.clone(), 0));
        let again = Archive::open(&copy, Zip64::Refuse, &Limits::USUAL).unwrap();
        let names = |archive: &Archive| archive.entries.iter().map(|e| e.name.clone()).collect::<Vec<_>>();
        prop_assert_eq!(names(&archive), names(&again), "their order is kept");
        for entry in again.entries.iter().filter(|entry| entry.method == 0) {
            prop_assert_eq!(entry.data_at % boundary, 0);
        }
        // somebody else's reader sees the same
        let mut other = zip::ZipArchive::new(std::io::Cursor::new(copy)).unwrap();
        for (name, content) in wanted {
            let mut found = Vec::new();
            other.by_name(&name).unwrap().read_to_end(&mut found).unwrap();
            prop_assert_eq!(found, content);
        }
    }

    #[test]
    fn an_entry_left_out_is_gone_and_no_other(entries in entries(), which in any::<prop::sample::Index>()) {
        let bytes = archive_of(&entries);
        let archive = Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap();
        let gone = which.get(&archive.entries).name.clone();
        let Layout { pieces, body, directory, count, .. } =
            lay_out(&archive, &[], |entry| entry.name != gone, |_| 4);
        let end = end_record(count, directory.len() as u32, body as u32);
        let pieces = pieces.into_iter().chain([Piece::Bytes(directory), Piece::Bytes(end)]);
        let copy = Assembly::new(&bytes, pieces);
        let (left, faults) = read_all(&copy.bytes(0..copy.len(), u64::MAX).unwrap());
        prop_assert_eq!((left.len(), faults), (entries.len() - 1, 0));
        prop_assert!(!left.contains_key(&String::from_utf8(gone).unwrap()));
    }

    #[test]
    fn a_signer_comes_back_and_every_cut_of_it_is_refused(
        algorithm in any::<u32>(),
        digest in vec(any::<u8>(), 1..64),
        certificate in vec(any::<u8>(), 1..200),
        signature in vec(any::<u8>(), 1..100),
        attributes in btree_map(1u32..1000, vec(any::<u8>(), 0..40), 0..4),
        levels in (0u32..100, 0u32..100),
        cut in any::<prop::sample::Index>(),
    ) {
        let attributes: Vec<(u32, Vec<u8>)> = attributes.into_iter().collect();
        let range = levels.0..=levels.0 + levels.1;
        let data = v3_signed_data(algorithm, &digest, &certificate, &range, &attributes);
        let value = v3_value(&data, &range, algorithm, &signature, b"key");
        let signers = parse_v3(&value, &Limits::USUAL).unwrap();
        let [signer] = signers.as_slice() else { panic!("{signers:?}") };
        prop_assert_eq!(signer.signed_data, data.as_slice());
        prop_assert_eq!(&signer.digests, &[(algorithm, digest.as_slice())]);
        prop_assert_eq!(&signer.certificates, &[certificate.as_slice()]);
        prop_assert_eq!(&signer.signatures, &[(algorithm, signature.as_slice())]);
        prop_assert_eq!(signer.sdk.clone(), Some(range));
        for (id, wanted) in &attributes {
            prop_assert_eq!(signer.attribute(*id), Some(wanted.as_slice()));
        }
        prop_assert!(parse_v3(&value[..cut.index(value.len())], &Limits::USUAL).is_err());
        let data = v2_signed_data(algorithm, &digest, &certificate, &[3]);
        let value = v2_value(&data, algorithm, &signature, b"key");
        let signers = parse_v2(&value, &Limits::USUAL).unwrap();
        prop_assert_eq!(signers.first().unwrap().sdk.clone(), None);
        prop_assert_eq!(signers.first().unwrap().public_key, b"key");
        prop_assert!(parse_v2(&value[..cut.index(value.len())], &Limits::USUAL).is_err());
        prop_assert!(parse_v2(&[value.as_slice(), &[0]].concat(), &Limits::USUAL).is_err(), "something behind it");
    }

    #[test]
    fn a_lineage_comes_back_node_by_node(
        nodes in vec((vec(any::<u8>(), 0..80), any::<u32>(), any::<u32>(), any::<u32>(), vec(any::<u8>(), 0..40)), 1..6),
        cut in any::<prop::sample::Index>(),
    ) {
        let written: Vec<_> = nodes
            .iter()
            .map(|(certificate, parent, flags, next, signature)| {
                (lineage::signed_part(certificate, *parent), *flags, *next, signature.clone())
            })
            .collect();
        let bytes = lineage::write(&written);
        let read = lineage::parse(&bytes, &Limits::USUAL).unwrap();
        prop_assert_eq!(read.len(), nodes.len());
        for (node, (certificate, parent, flags, next, signature)) in read.iter().zip(&nodes) {
            prop_assert_eq!(node.certificate, certificate.as_slice());
            prop_assert_eq!((node.parent_algorithm, node.flags, node.next_algorithm), (*parent, *flags, *next));
            prop_assert_eq!(node.signature, signature.as_slice());
        }
        // a cut between two nodes leaves a shorter lineage, which is one too
        let shorter = lineage::parse(&bytes[..cut.index(bytes.len())], &Limits::USUAL);
        prop_assert!(shorter.is_err() || shorter.is_ok_and(|left| left.len() < nodes.len()));
    }

    #[test]
    fn a_pem_block_comes_back_from_among_others(
        ders in vec(vec(any::<u8>(), 1..300), 1..4),
        label in "[A-Z]{1,12}( [A-Z]{1,8})?",
        noise in "[a-z0-9 =:\n]{0,60}",
    ) {
        let blocks: String = ders.iter().map(|der| format!("{noise}\n{}", pem::encode(&label, der).unwrap())).collect();
        let text = format!("{}{blocks}{noise}", pem::encode("OTHER THINGS", b"not this").unwrap());
        prop_assert!(pem::looks_like(text.as_bytes()) && pem::has(text.as_bytes(), &label));
        let wanted = if label == "OTHER THINGS" { 1 } else { 0 };
        let found = pem::blocks(text.as_bytes(), &label, &Limits::USUAL);
        prop_assert_eq!(&found[wanted..], ders.as_slice());
    }

    #[test]
    fn binary_xml_comes_back_with_its_values_and_depths(
        numbers in vec(any::<u32>(), 1..5),
        texts in vec("[ -~ä-ü]{0,20}", 1..5),
        depth in 1usize..12,
    ) {
        let mut root = Node::new("manifest");
        for (at, number) in numbers.iter().enumerate() {
            root = root.platform(0x0101_0200 + at as u32, "number", Value::Number(*number));
        }
        for (at, text) in texts.iter().enumerate() {
            root = root.plain(&format!("text{at}"), text);
        }
        let chain = (1..depth).rev().fold(None::<Node>, |below, at| {
            let node = Node::new(&format!("level{at}"));
            Some(below.map_or(node.clone(), |below| node.child(below)))
        });
        let root = chain.map_or(root.clone(), |chain| root.child(chain));
        let elements = axml::parse(&write_xml(&root), &Limits::USUAL).unwrap();
        let first = elements.first().unwrap();
        for (at, number) in numbers.iter().enumerate() {
            prop_assert_eq!(first.by_id(0x0101_0200 + at as u32), Some(&Value::Number(*number)));
        }
        for (at, text) in texts.iter().enumerate() {
            prop_assert_eq!(first.by_name(&format!("text{at}")), Some(&Value::Text(text.clone())));
        }
        let depths: Vec<u64> = elements.iter().map(|element| element.depth).collect();
        prop_assert_eq!(depths, (1..=depth as u64).collect::<Vec<_>>());
    }
}

#[test]
fn a_signer_that_says_two_things_is_refused() {
    let made = |inside, outside, attributes: &[(u32, Vec<u8>)]| {
        let data = v3_signed_data(0x0103, b"digest", b"certificate", &inside, attributes);
        v3_value(&data, &outside, 0x0103, b"signature", b"key")
    };
    let refused = |value: Vec<u8>| parse_v3(&value, &Limits::USUAL).is_err();
    assert!(!refused(made(24..=LAST_SDK, 24..=LAST_SDK, &[])));
    assert!(refused(made(24..=LAST_SDK, 28..=LAST_SDK, &[])), "levels differ inside and outside");
    assert!(refused(made(24..=LAST_SDK + 1, 24..=LAST_SDK + 1, &[])), "devices read it as below zero");
    #[expect(clippy::reversed_empty_ranges, reason = "a range that is empty is what is tried")]
    let empty = 30..=24;
    assert!(refused(made(empty.clone(), empty, &[])));
    for id in [ATTRIBUTE_LINEAGE, ATTRIBUTE_ROTATION_MIN_SDK] {
        let twice = [(id, vec![1]), (id, vec![2])];
        assert!(refused(made(24..=30, 24..=30, &twice)), "readers would take different ones");
        assert!(!refused(made(24..=30, 24..=30, &twice[..1])));
    }
}

#[test]
fn empty_lists_other_versions_and_too_much_of_anything_are_refused() {
    let none =
        |bytes: &[u8]| parse_v2(bytes, &Limits::USUAL).is_err() && parse_v3(bytes, &Limits::USUAL).is_err();
    assert!(none(&[]) && none(&[0; 4]) && none(&[4, 0, 0, 0, 0, 0, 0, 0]) && none(&[0xff; 8]));
    let data = v2_signed_data(0x0103, b"digest", b"certificate", &[]);
    let one = v2_value(&data, 0x0103, b"signature", b"key");
    let many = one[4..].repeat(Limits::USUAL.signers as usize + 1);
    let many = [&(many.len() as u32).to_le_bytes()[..], &many].concat();
    assert!(parse_v2(&many, &Limits::USUAL).is_err());
    let node = (lineage::signed_part(b"certificate", 0), 0, 0, Vec::new());
    let of = |count: usize| lineage::write(&vec![node.clone(); count]);
    assert_eq!(lineage::parse(&of(64), &Limits::USUAL).unwrap().len(), 64);
    assert!(lineage::parse(&of(65), &Limits::USUAL).is_err());
    assert!(lineage::parse(&of(0), &Limits::USUAL).is_err());
    let mut second = of(1);
    second[0] = 2;
    assert!(lineage::parse(&second, &Limits::USUAL).is_err());
    let small = Limits { depth: 3, ..Limits::USUAL };
    let deep = Node::new("a").child(Node::new("b").child(Node::new("c").child(Node::new("d"))));
    assert!(axml::parse(&write_xml(&deep), &Limits::USUAL).is_ok());
    assert!(axml::parse(&write_xml(&deep), &small).is_err());
}

#[test]
fn a_level_that_is_not_known_is_neither_low_nor_high() {
    assert!(Sdk::Level(23).is_below(24) && Sdk::Level(23).may_be_below(24));
    assert!(!Sdk::Level(24).is_below(24) && !Sdk::Level(24).may_be_below(24));
    let codename = Sdk::Codename("Skerry".into());
    assert_eq!(codename.level(), None);
    assert!(!codename.is_below(24));
}

#[test]
fn algorithms_have_names_and_what_has_none_keeps_its_number() {
    assert_eq!(algorithm_name("1.2.840.10045.3.1.7"), "P-256");
    assert_eq!(algorithm_name("1.2.840.113549.1.1.11"), "SHA-256 with RSA");
    assert_eq!(algorithm_name("1.2.3.4"), "1.2.3.4");
}
