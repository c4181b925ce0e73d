//! The files of JAR signing at their edges.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

use ninekeys_formats::jar::manifest::{Writer, parse};
use ninekeys_formats::jar::{announced_schemes, is_signature_file};
use ninekeys_formats::limits::Limits;
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_attributes_come_back_and_sections_keep_their_bytes(
        sections in proptest::collection::vec(("[A-Za-z0-9][A-Za-z0-9_-]{0,19}", "[^\\x00-\\x1f]{0,200}"), 1..6),
    ) {
        let mut writer = Writer::new();
        let mut ends = vec![0];
        for (name, value) in &sections {
            writer.attribute(name, value);
            ends.push(writer.close());
        }
        let bytes = writer.finish();
        let read = parse(&bytes, &Limits::SMALL).unwrap();
        prop_assert_eq!(read.len(), sections.len());
        for (index, (name, value)) in sections.iter().enumerate() {
            prop_assert_eq!(read[index].get(name), Some(value.as_str()));
            prop_assert_eq!(read[index].raw, &bytes[ends[index]..ends[index + 1]]);
        }
    }

    #[test]
    fn any_bytes_are_survived(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
        let _ = parse(&bytes, &Limits::SMALL);
        let _ = announced_schemes(&bytes, &Limits::SMALL);
        let _ = is_signature_file(&bytes);
    }
}

#[test]
fn more_sections_than_the_limit_are_refused() {
    let text = "Name: a\r\n\r\n".repeat(600);
    let error = parse(text.as_bytes(), &Limits::SMALL).unwrap_err();
    assert_eq!(error.what, "sections");
    assert_eq!(parse(text.as_bytes(), &Limits::USUAL).unwrap().len(), 600);
}

#[test]
fn names_compare_without_case_and_the_first_of_two_counts() {
    let sections = parse(b"NAME: one\r\nname: two\r\nX-Empty: \r\n\r\n", &Limits::SMALL).unwrap();
    assert_eq!(sections[0].get("Name"), Some("one"));
    assert_eq!(sections[0].get("x-empty"), Some(""));
    assert_eq!(sections[0].get("missing"), None);
}
