use super::write::{Node, write};
use super::*;

fn document() -> Vec<u8> {
    let root = Node::new("manifest")
        .platform(0x0101_021b, "versionCode", Value::Number(12))
        .plain("package", "example.gannetpoint.crossing")
        .child(Node::new("application").platform(0x0101_000f, "debuggable", Value::Boolean(true)));
    write(&root)
}

#[test]
fn elements_come_back_in_order_with_ids_and_values() {
    let elements = parse(&document(), &Limits::SMALL).unwrap();
    let names: Vec<_> = elements.iter().map(|e| (e.depth, e.name.as_str())).collect();
    assert_eq!(names, [(1, "manifest"), (2, "application")]);
    assert_eq!(elements[0].by_id(0x0101_021b), Some(&Value::Number(12)));
    let package = Value::Text("example.gannetpoint.crossing".into());
    assert_eq!(elements[0].by_name("package"), Some(&package));
    assert_eq!(elements[1].by_id(0x0101_000f), Some(&Value::Boolean(true)));
}

#[test]
fn a_string_offset_out_of_range_is_an_error_and_no_panic() {
    let mut bytes = document();
    // the first string offset stands behind the document header (8) and the pool header (28)
    bytes[36..40].copy_from_slice(&0xffff_fff0u32.to_le_bytes());
    let error = parse(&bytes, &Limits::SMALL).unwrap_err();
    assert_eq!(error.what, "string offset");
}

#[test]
fn sizes_counts_and_nesting_that_lie_are_errors() {
    let mut bytes = document();
    bytes[4..8].copy_from_slice(&0xffff_ffffu32.to_le_bytes());
    assert_eq!(parse(&bytes, &Limits::SMALL).unwrap_err().what, "chunk");
    let mut bytes = document();
    bytes[16..20].copy_from_slice(&0xffff_ffffu32.to_le_bytes());
    assert_eq!(parse(&bytes, &Limits::SMALL).unwrap_err().what, "number of strings");
    let deep = (0..40).fold(Node::new("leaf"), |inner, _| Node::new("branch").child(inner));
    assert_eq!(parse(&write(&deep), &Limits::SMALL).unwrap_err().what, "nesting of elements");
}

#[test]
fn every_cut_of_a_document_is_refused() {
    let bytes = document();
    for end in 0..bytes.len() {
        assert!(parse(&bytes[..end], &Limits::SMALL).is_err(), "cut at {end}");
    }
}
