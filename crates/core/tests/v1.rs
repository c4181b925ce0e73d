//! Scheme v1: what is signed for old devices, and every way in which its files can be wrong.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

mod common;

use common::{identity, sign, verified};
use ninekeys_core::android::{Scheme, SchemeState, SignatureFault};
use ninekeys_core::demo::{CROSSING, DemoBuild};
use ninekeys_core::keys::Algorithm;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::zip::write::Writer;
use ninekeys_formats::zip::{Archive, STORED, Zip64};

/// A build for devices from SDK 21 on, signed with v1, v2 and v3.
fn signed(algorithm: Algorithm) -> Vec<u8> {
    let (key, certificate) = identity(algorithm, common::NOW, 30);
    sign(&DemoBuild { min_sdk: 21, ..CROSSING }.apk(), &key, &certificate)
}

/// The same archive without its block, with its entries' names and contents changed.
fn rebuilt(signed: &[u8], change: impl Fn(&str, Vec<u8>) -> Option<(String, Vec<u8>)>) -> Vec<u8> {
    let archive = Archive::open(&signed, Zip64::Refuse, &Limits::USUAL).unwrap();
    let mut writer = Writer::new();
    for entry in &archive.entries {
        let content = archive.read(&signed, entry, &Limits::USUAL).unwrap();
        if let Some((name, content)) = change(&entry.name_text(), content) {
            let stored = entry.method == STORED;
            writer = if stored { writer.stored(&name, &content) } else { writer.deflated(&name, &content) };
        }
    }
    writer.finish()
}

fn v1(bytes: &[u8]) -> SchemeState {
    let (_, signatures) = verified(bytes);
    signatures.schemes.iter().find(|report| report.scheme == Scheme::V1).unwrap().state.clone()
}

/// What the faults of scheme v1 say.
fn says(bytes: &[u8]) -> Vec<String> {
    match v1(bytes) {
        SchemeState::Broken(faults) => faults.iter().map(SignatureFault::to_string).collect(),
        SchemeState::Verified => Vec::new(),
    }
}

#[test]
fn every_algorithm_signs_all_three_schemes_and_they_are_one_signer() {
    for (name, algorithm) in Algorithm::ALL {
        let bytes = signed(algorithm);
        let (package, signatures) = verified(&bytes);
        let schemes: Vec<Scheme> = signatures.schemes.iter().map(|report| report.scheme).collect();
        assert_eq!(schemes, [Scheme::V1, Scheme::V2, Scheme::V3], "{name}");
        assert!(
            signatures.schemes.iter().all(|r| r.state == SchemeState::Verified),
            "{name}: {signatures:?}"
        );
        let keys: Vec<&str> = signatures.signers.iter().map(|s| s.key_fingerprint.as_str()).collect();
        assert!(keys.len() == 3 && keys.iter().all(|key| *key == keys[0]), "{name}");
        assert_eq!(package.archive.entries[0].name, b"META-INF/MANIFEST.MF", "{name}");
        assert_eq!(signatures.stripped, [], "{name}");
    }
}

#[test]
fn v1_alone_is_verified_and_misses_what_it_announces() {
    let bytes = rebuilt(&signed(Algorithm::P256), |name, content| Some((name.into(), content)));
    assert_eq!(v1(&bytes), SchemeState::Verified);
    assert_eq!(verified(&bytes).1.stripped, [Scheme::V2, Scheme::V3]);
}

#[test]
fn an_entry_that_is_changed_added_or_taken_out_is_named() {
    let bytes = signed(Algorithm::P256);
    let changed = rebuilt(&bytes, |name, mut content| {
        if name == "classes.dex" {
            content[100] ^= 1;
        }
        Some((name.into(), content))
    });
    assert_eq!(says(&changed), ["classes.dex was changed after it was signed"]);
    let taken = rebuilt(&bytes, |name, content| (name != "classes.dex").then(|| (name.into(), content)));
    assert_eq!(says(&taken), ["classes.dex is signed and not there"]);
    let renamed = rebuilt(&bytes, |name, content| Some((name.replace("horn", "bell"), content)));
    assert_eq!(
        says(&renamed),
        ["res/raw/bell.ogg is not signed", "res/raw/horn.ogg is signed and not there"]
    );
}

#[test]
fn files_in_meta_inf_that_are_not_the_signatures_need_not_be_listed() {
    let bytes = rebuilt(&signed(Algorithm::P256), |name, content| {
        // the block file twice over, the second time as somebody's service file
        Some((name.into(), content))
    });
    let archive = Archive::open(&bytes, Zip64::Refuse, &Limits::USUAL).unwrap();
    let mut writer = Writer::new().deflated("META-INF/services/ferry", b"unlisted");
    for entry in &archive.entries {
        writer = writer.deflated(&entry.name_text(), &archive.read(&bytes, entry, &Limits::USUAL).unwrap());
    }
    assert_eq!(v1(&writer.finish()), SchemeState::Verified);
}

#[test]
fn manifest_signature_file_and_block_file_have_to_fit_each_other() {
    let bytes = signed(Algorithm::P256);
    let edit = |file: &'static str, from: &'static str, to: &'static str| {
        says(&rebuilt(&bytes, |name, content| {
            let text = String::from_utf8_lossy(&content);
            let same = name != file || !text.contains(from);
            Some((name.into(), if same { content } else { text.replacen(from, to, 1).into_bytes() }))
        }))
    };
    let manifest = edit("META-INF/MANIFEST.MF", "Created-By: Nine Keys", "Created-By: Ten Keys ");
    assert_eq!(manifest, ["MANIFEST.MF is not the one that META-INF/FERRIES.SF signs"]);
    let section = edit("META-INF/MANIFEST.MF", "Name: classes.dex", "Name: classes.dey");
    assert!(
        section.iter().any(|fault| fault.contains("does not sign the section of classes.dey")),
        "{section:?}"
    );
    assert!(section.iter().any(|fault| fault == "classes.dex is not signed"), "{section:?}");
    let file = edit("META-INF/FERRIES.SF", "Signature-Version: 1.0", "Signature-Version: 1.1");
    assert_eq!(file, ["the signature in the block file is wrong"]);
    let announced = edit("META-INF/FERRIES.SF", "X-Android-APK-Signed: 2, 3", "X-Android-APK-Signed: 2   ");
    assert_eq!(announced, ["the signature in the block file is wrong"]);
}

#[test]
fn files_that_are_missing_or_no_files_of_theirs_are_named() {
    let bytes = signed(Algorithm::Rsa2048);
    let without = |gone: &'static str| {
        says(&rebuilt(&bytes, |name, content| (name != gone).then(|| (name.into(), content))))
    };
    assert_eq!(without("META-INF/MANIFEST.MF"), ["there is no readable MANIFEST.MF"]);
    assert_eq!(without("META-INF/FERRIES.RSA"), ["META-INF/FERRIES.SF has no readable block file"]);
    let block = rebuilt(&bytes, |name, content| {
        let content = if name.ends_with(".RSA") { b"not a CMS".to_vec() } else { content };
        Some((name.into(), content))
    });
    assert!(says(&block)[0].contains("CMS signed data"), "{:?}", says(&block));
    let text = rebuilt(&bytes, |name, content| {
        let content = if name.ends_with(".MF") { b"no attribute".to_vec() } else { content };
        Some((name.into(), content))
    });
    assert!(says(&text)[0].contains("attribute at byte 0"), "{:?}", says(&text));
}

#[test]
fn a_block_file_of_another_signer_is_no_signature_of_this_file() {
    let one = signed(Algorithm::P256);
    let (key, certificate) = identity(Algorithm::P256, common::NOW, 30);
    let other = sign(&DemoBuild { min_sdk: 21, code: 13, ..CROSSING }.apk(), &key, &certificate);
    let theirs = Archive::open(&other, Zip64::Refuse, &Limits::USUAL).unwrap();
    let block = theirs.find(b"META-INF/FERRIES.EC").unwrap();
    let block = theirs.read(&other, block, &Limits::USUAL).unwrap();
    let mixed = rebuilt(&one, |name, content| {
        Some((name.into(), if name.ends_with(".EC") { block.clone() } else { content }))
    });
    assert_eq!(says(&mixed), ["the signature in the block file is wrong"]);
}

#[test]
fn long_and_foreign_names_survive_the_folding() {
    let (key, certificate) = identity(Algorithm::P256, common::NOW, 30);
    let long = format!(
        "assets/{}/größe-日本語-données.txt",
        "a-rather-long-directory-name/".repeat(6).trim_end_matches('/')
    );
    let manifest = DemoBuild { min_sdk: 18, ..CROSSING }.manifest();
    let apk = Writer::new()
        .deflated("AndroidManifest.xml", &manifest)
        .deflated(&long, b"x")
        .stored("empty", b"")
        .finish();
    let bytes = sign(&apk, &key, &certificate);
    assert_eq!(v1(&bytes), SchemeState::Verified);
    assert_eq!(sign(&bytes, &key, &certificate), bytes, "signing again gives the same bytes");
}
