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

/// A document whose pool is UTF-8, put together by hand: two strings, one element without attributes.
fn utf8_document(strings: &[&[u8]], name: u32) -> Vec<u8> {
    let chunk = |kind: u16, header: u16, body: &[u8]| {
        let size = body.len() as u32 + 8;
        [&kind.to_le_bytes()[..], &header.to_le_bytes(), &size.to_le_bytes(), body].concat()
    };
    let words = |list: &[u32]| list.iter().flat_map(|word| word.to_le_bytes()).collect::<Vec<u8>>();
    let mut offsets = Vec::new();
    let mut data = Vec::new();
    for string in strings {
        offsets.extend_from_slice(&(data.len() as u32).to_le_bytes());
        data.extend_from_slice(string);
    }
    data.resize(data.len().next_multiple_of(4), 0);
    let start = 28 + offsets.len() as u32;
    let pool = [words(&[strings.len() as u32, 0, 0x100, start, 0]), offsets, data].concat();
    let none = u32::MAX;
    let element = [words(&[1, none, none, name]), vec![20, 0, 20, 0, 0, 0, 0, 0, 0, 0, 0, 0]].concat();
    let body = [
        chunk(STRINGS, 28, &pool),
        chunk(START_ELEMENT, 16, &element),
        chunk(END_ELEMENT, 16, &words(&[1, none, none, name])),
    ];
    chunk(DOCUMENT, 8, &body.concat())
}

#[test]
fn a_pool_of_utf8_is_read_with_short_and_long_lengths() {
    let short = b"\x05\x06gr\xc3\xb6\xc3\xb6\0";
    let elements = parse(&utf8_document(&[b"\x01\x01x\0", short], 1), &Limits::SMALL).unwrap();
    assert_eq!(elements[0].name, "gröö");
    let long: Vec<u8> = [&[0x80, 200, 0x80, 200][..], &[b'a'; 200], &[0]].concat();
    let elements = parse(&utf8_document(&[&long], 0), &Limits::SMALL).unwrap();
    assert_eq!(elements[0].name, "a".repeat(200));
}

#[test]
fn strings_that_are_not_text_and_indices_that_point_nowhere_are_errors() {
    let broken = parse(&utf8_document(&[b"\x02\x02\xff\xfe\0"], 0), &Limits::SMALL).unwrap_err();
    assert_eq!((broken.what, broken.fault), ("string", Fault::Text));
    let beyond = parse(&utf8_document(&[b"\x01\x01x\0"], 7), &Limits::SMALL).unwrap_err();
    assert_eq!((beyond.what, beyond.fault), ("string index", Fault::Value(7)));
    let runs_out = parse(&utf8_document(&[b"\x7f\x7fx\0"], 0), &Limits::SMALL).unwrap_err();
    assert_eq!(runs_out.what, "string");
}

#[test]
fn elements_that_do_not_nest_are_errors() {
    let mut bytes = document();
    // the last chunk but one ends the root element: make it a start
    let end = bytes.windows(4).rposition(|window| window == [0x03, 0x01, 0x10, 0x00]).unwrap();
    bytes[end] = 0x04;
    assert_eq!(parse(&bytes, &Limits::SMALL).unwrap_err().what, "end of an element");
    let mut bytes = document();
    let start = bytes.windows(4).position(|window| window == [0x02, 0x01, 0x10, 0x00]).unwrap();
    bytes[start] = 0x04;
    assert_eq!(parse(&bytes, &Limits::SMALL).unwrap_err().what, "end of an element");
}

#[test]
fn values_of_every_type_survive() {
    let values = [
        Value::Text("größe".into()),
        Value::Reference(0x7f01_0002),
        Value::Number(35),
        Value::Boolean(false),
        Value::Other { kind: 0x04, data: 0x3f80_0000 },
    ];
    for value in values {
        let root = Node::new("manifest").platform(0x0101_0001, "label", value.clone());
        let elements = parse(&write(&root), &Limits::SMALL).unwrap();
        assert_eq!(elements[0].by_id(0x0101_0001), Some(&value));
    }
}

#[test]
fn attributes_are_sorted_by_id_and_those_without_one_come_last() {
    let root = Node::new("manifest")
        .plain("package", "example")
        .platform(0x0101_021c, "versionName", Value::Text("1".into()))
        .platform(0x0101_021b, "versionCode", Value::Number(1));
    let elements = parse(&write(&root), &Limits::SMALL).unwrap();
    let ids: Vec<Option<u32>> = elements[0].attributes.iter().map(|a| a.id).collect();
    assert_eq!(ids, [Some(0x0101_021b), Some(0x0101_021c), None]);
}

const VERSION_CODE: u32 = 0x0101_021b;
const VERSION_NAME: u32 = 0x0101_021c;

fn set(bytes: &[u8], id: u32, value: Value) -> Option<Vec<u8>> {
    edit::set_on_root(bytes, id, &value, &Limits::SMALL).unwrap()
}

#[test]
fn attributes_of_the_root_are_set_and_nothing_else_changes() {
    let root = Node::new("manifest")
        .plain("package", "example")
        .platform(VERSION_CODE, "versionCode", Value::Number(1))
        .platform(VERSION_NAME, "versionName", Value::Text("1.0".into()))
        .child(Node::new("application").platform(VERSION_NAME, "versionName", Value::Text("1.0".into())));
    let bytes = write(&root);
    let once = set(&bytes, VERSION_CODE, Value::Number(300)).unwrap();
    assert_eq!(once.len(), bytes.len());
    assert_eq!(once.iter().zip(&bytes).filter(|(one, other)| one != other).count(), 2, "of one word");
    let twice = set(&once, VERSION_NAME, Value::Text("größer 2.1".into())).unwrap();
    let elements = parse(&twice, &Limits::SMALL).unwrap();
    assert_eq!(elements[0].by_id(VERSION_CODE), Some(&Value::Number(300)));
    assert_eq!(elements[0].by_id(VERSION_NAME), Some(&Value::Text("größer 2.1".into())));
    // the same string elsewhere stays what it was
    assert_eq!(elements[1].by_id(VERSION_NAME), Some(&Value::Text("1.0".into())));
    assert_eq!(set(&bytes, 0x0101_0576, Value::Number(0)), None);
    // a value that referred to something, or was a text, becomes a number
    let root = Node::new("manifest").platform(VERSION_CODE, "versionCode", Value::Reference(7));
    let done = set(&write(&root), VERSION_CODE, Value::Number(2)).unwrap();
    assert_eq!(parse(&done, &Limits::SMALL).unwrap()[0].by_id(VERSION_CODE), Some(&Value::Number(2)));
}

#[test]
fn a_text_is_put_into_a_pool_of_utf8_and_before_its_styles() {
    for (count, length) in [(3, "short".to_owned()), (200, "a".repeat(200))] {
        let root = Node::new("manifest").platform(VERSION_NAME, "versionName", Value::Text("1.0".into()));
        let plain = write(&root);
        // the pool of the document, written anew in UTF-8 with one style behind it
        let size = u32::from_le_bytes(plain[12..16].try_into().unwrap()) as usize;
        let strings: [&[u8]; 5] = [
            b"\x0b\x0bversionName\0",
            b"\x07\x07android\0",
            b"\x01\x01u\0",
            b"\x08\x08manifest\0",
            b"\x03\x031.0\0",
        ];
        let (mut offsets, mut data) = (Vec::new(), Vec::new());
        for string in strings {
            offsets.extend_from_slice(&(data.len() as u32).to_le_bytes());
            data.extend_from_slice(string);
        }
        data.resize(data.len().next_multiple_of(4), 0);
        let style = [0u32.to_le_bytes(), 0xffff_ffffu32.to_le_bytes()];
        let start = 28 + offsets.len() as u32 + 4;
        let head = [5, 1, 0x101, start, start + data.len() as u32].map(u32::to_le_bytes).concat();
        let body = [head, offsets, style[0].to_vec(), data, style[1].to_vec()].concat();
        let pool = [&[1, 0, 28, 0][..], &(body.len() as u32 + 8).to_le_bytes(), &body].concat();
        let rest = &plain[8 + size..];
        let whole = (8 + pool.len() + rest.len()) as u32;
        let bytes = [&[3, 0, 8, 0][..], &whole.to_le_bytes(), &pool, rest].concat();
        let done = set(&bytes, VERSION_NAME, Value::Text(length.clone())).unwrap();
        let elements = parse(&done, &Limits::SMALL).unwrap();
        assert_eq!(elements[0].by_id(VERSION_NAME), Some(&Value::Text(length)), "{count}");
        let styles = u32::from_le_bytes(done[32..36].try_into().unwrap()) as usize + 8;
        assert_eq!(done[styles..styles + 4], style[1], "the styles are where the pool says");
        assert_eq!(u32::from_le_bytes(done[24..28].try_into().unwrap()), 0x100, "sorted no more");
    }
}
