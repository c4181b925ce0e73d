//! Packages as they come: manifests that are missing, doubled or damaged, entries that stand wrongly.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

use ninekeys_core::android::{ManifestFault, Opened, Package, SignError};
use ninekeys_core::demo::{CROSSING, DemoBuild, QUAYSIDE_DEBUG};
use ninekeys_core::model::Destination;
use ninekeys_formats::axml::Value;
use ninekeys_formats::axml::write::{Node, write};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::{Sdk, id};
use ninekeys_formats::zip::write::Writer;
use ninekeys_formats::zip::{EntryFault, ZipError};

fn read(bytes: &[u8]) -> Package {
    Package::read(&bytes, &Limits::USUAL).unwrap()
}

/// A package whose manifest has this `uses-sdk` and nothing else.
fn with_sdk(sdk: Node) -> Vec<u8> {
    let manifest = write(&Node::new("manifest").plain("package", "example.ferry").child(sdk));
    Writer::new().deflated("AndroidManifest.xml", &manifest).finish()
}

#[test]
fn the_demo_builds_say_what_they_are() {
    for build in [CROSSING, QUAYSIDE_DEBUG, DemoBuild { test_only: true, ..CROSSING }] {
        let package = read(&build.apk());
        assert_eq!(package.archive.faults, []);
        let manifest = package.manifest.unwrap();
        assert_eq!(manifest.package, build.package);
        assert_eq!(manifest.version_code, Some(u64::from(build.code)));
        assert_eq!(manifest.version_name.as_deref(), Some(build.version));
        assert_eq!(manifest.min_sdk, Sdk::Level(build.min_sdk));
        assert_eq!((manifest.debuggable, manifest.test_only), (build.debuggable, build.test_only));
        assert_eq!(build.apk(), build.apk(), "the same bytes each time");
    }
}

#[test]
fn a_codename_is_no_level_that_is_known_and_a_number_in_text_is_a_number() {
    let min = |value| {
        let sdk = Node::new("uses-sdk").platform(id::MIN_SDK, "minSdkVersion", value);
        read(&with_sdk(sdk)).manifest.unwrap().min_sdk
    };
    let codename = min(Value::Text("Skerry".into()));
    assert_eq!((codename.level(), codename.to_string()), (None, "Skerry".into()));
    assert!(codename.may_be_below(1) && !codename.is_below(99), "nobody knows");
    assert_eq!(min(Value::Text("26".into())), Sdk::Level(26));
    assert_eq!(min(Value::Reference(0x7f01_0001)).level(), None);
    assert_eq!(read(&with_sdk(Node::new("uses-sdk"))).manifest.unwrap().min_sdk, Sdk::Level(1));
}

/// A package whose manifest refers to its resources for everything.
fn referring(table: Option<Vec<u8>>) -> Vec<u8> {
    let at = |index: u32| Value::Reference(0x7f01_0000 + index);
    let manifest = Node::new("manifest")
        .plain("package", "example.ferry")
        .platform(id::VERSION_CODE, "versionCode", at(0))
        .platform(id::VERSION_NAME, "versionName", at(1))
        .child(Node::new("uses-sdk").platform(id::MIN_SDK, "minSdkVersion", at(2)).platform(
            id::TARGET_SDK,
            "targetSdkVersion",
            at(3),
        ))
        .child(Node::new("application").platform(id::DEBUGGABLE, "debuggable", at(4)));
    let writer = Writer::new().deflated("AndroidManifest.xml", &write(&manifest));
    match table {
        Some(table) => writer.stored("resources.arsc", &table).finish(),
        None => writer.finish(),
    }
}

#[test]
fn what_a_manifest_refers_to_is_looked_up_and_else_not_known() {
    let values = [
        Value::Number(12),
        Value::Text("2.4.0".into()),
        Value::Number(26),
        Value::Reference(0x7f01_0005),
        Value::Boolean(false),
        Value::Number(35),
    ];
    let table = ninekeys_formats::arsc::write::table(&[values.map(Some).to_vec()]);
    let known = read(&referring(Some(table))).manifest.unwrap();
    assert_eq!((known.version_code, known.version_name.as_deref()), (Some(12), Some("2.4.0")));
    assert_eq!((&known.min_sdk, &known.target_sdk), (&Sdk::Level(26), &Sdk::Level(35)));
    assert!(!known.debuggable && !known.version_code_unknown);
    // a code that differs by device is none, and one that is not there neither: never 0
    let two =
        ninekeys_formats::arsc::write::table(&[vec![Some(Value::Number(12))], vec![Some(Value::Number(13))]]);
    for table in [Some(two), Some(b"no table".to_vec()), None] {
        let package = referring(table);
        let unknown = read(&package).manifest.unwrap();
        assert_eq!((unknown.version_code, unknown.version_code_unknown), (None, true));
        assert_eq!((unknown.min_sdk.level(), unknown.target_sdk.level()), (None, None));
        assert!(unknown.debuggable, "what may be debuggable is treated as if it were");
        let refused =
            Opened::open(&package, &Limits::USUAL).unwrap().allow(Destination::Direct).err().unwrap();
        assert!(refused.to_string().contains("its version code is not known"), "{refused}");
    }
}

#[test]
fn manifests_that_are_missing_doubled_or_damaged_are_three_things() {
    let none = read(&Writer::new().stored("classes.dex", b"x").finish());
    assert!(matches!(none.manifest, Err(ManifestFault::Missing)));
    let manifest = CROSSING.manifest();
    let twice =
        Writer::new().deflated("AndroidManifest.xml", &manifest).stored("AndroidManifest.xml", &manifest);
    assert!(matches!(read(&twice.finish()).manifest, Err(ManifestFault::Several)));
    let text = read(&Writer::new().stored("AndroidManifest.xml", b"<manifest/>").finish());
    assert!(matches!(text.manifest, Err(ManifestFault::Malformed(_))));
    let mut broken = Writer::new().deflated("AndroidManifest.xml", &manifest).finish();
    broken[60] ^= 0xff;
    let package = read(&broken);
    assert!(matches!(package.manifest, Err(ManifestFault::Entry(ZipError::Entry { .. }))));
}

#[test]
fn a_manifest_that_inflates_to_more_than_the_limit_takes_no_memory() {
    let huge = vec![0u8; 20 << 20];
    let package = read(&Writer::new().deflated("AndroidManifest.xml", &huge).finish());
    let fault = package.manifest.err().unwrap();
    let ManifestFault::Entry(ZipError::Entry { fault, .. }) = fault else { panic!("{fault}") };
    assert_eq!(fault, EntryFault::TooLarge { said: 20 << 20, limit: 16 << 20 });
}

#[test]
fn a_malformed_archive_is_not_signed_and_the_fault_is_named() {
    let manifest = CROSSING.manifest();
    let bytes = Writer::new().deflated("AndroidManifest.xml", &manifest).stored("../x", b"x").finish();
    match Opened::open(&bytes, &Limits::USUAL) {
        Err(SignError::Malformed(fault)) => assert!(fault.to_string().contains("../x"), "{fault}"),
        Err(other) => panic!("{other}"),
        Ok(_) => panic!("it was opened"),
    }
}

#[test]
fn entries_that_stand_wrongly_are_listed_with_where_they_should() {
    let manifest = CROSSING.manifest();
    let bytes = Writer::new()
        .deflated("AndroidManifest.xml", &manifest)
        .stored("a", b"x")
        .stored("lib/arm64-v8a/a.so", &[1; 40])
        .stored("assets/lib/a.so", &[1; 41])
        .stored("lib/arm64-v8a/empty.so", b"")
        .deflated("lib/arm64-v8a/packed.so", &[1; 400])
        .finish();
    let all = read(&bytes).misaligned();
    assert!(all.iter().all(|entry| !entry.at.is_multiple_of(entry.boundary)), "{all:?}");
    let library = all.iter().find(|entry| entry.name == "lib/arm64-v8a/a.so").unwrap();
    assert_eq!(library.boundary, 4096);
    assert!(
        !all.iter().any(|entry| entry.name.contains("empty") || entry.name.contains("packed")),
        "{all:?}"
    );
}
