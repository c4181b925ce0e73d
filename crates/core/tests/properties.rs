//! For any archive: signed, it has no archive or signature finding; with a byte changed that the signature
//! covers, it is never clean.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

mod common;

use std::sync::OnceLock;

use common::{identity, sign, verified};
use ninekeys_core::android::{Package, PackageKind, SHARED_LIBRARY_ALIGNMENT, Scheme, SchemeState, verify};
use ninekeys_core::demo::{CROSSING, DemoBuild};
use ninekeys_core::keys::{Algorithm, PrivateKey};
use ninekeys_core::lending::Mask;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::Secret;
use ninekeys_formats::zip::write::Writer;
use proptest::prelude::*;

fn signer() -> &'static (PrivateKey, Vec<u8>) {
    static SIGNER: OnceLock<(PrivateKey, Vec<u8>)> = OnceLock::new();
    SIGNER.get_or_init(|| identity(Algorithm::P256, common::NOW, 30))
}

/// A package with a manifest and any entries behind it.
fn package(entries: &[(String, Vec<u8>, bool)]) -> Vec<u8> {
    let mut writer = Writer::new().deflated("AndroidManifest.xml", &CROSSING.manifest());
    for (number, (name, content, stored)) in entries.iter().enumerate() {
        let name = format!("{name}{number}{}", if number % 3 == 0 { ".so" } else { "" });
        writer = if *stored { writer.stored(&name, content) } else { writer.deflated(&name, content) };
    }
    writer.finish()
}

fn entries() -> impl Strategy<Value = Vec<(String, Vec<u8>, bool)>> {
    let name =
        prop_oneof!["lib/arm64-v8a/[a-z]{1,8}", "assets/[a-zäöü日本]{1,20}", "res/[a-z/]{0}[a-z]{1,9}"];
    let content = proptest::collection::vec(any::<u8>(), 0..3000);
    proptest::collection::vec((name, content, any::<bool>()), 0..12)
}

/// Whether a check would call this archive signed and sound.
fn is_clean(bytes: &[u8]) -> bool {
    let Ok(package) = Package::read(&bytes, &Limits::USUAL) else { return false };
    let verified = common::with_env(common::NOW, |env| verify(&bytes, &package, &Limits::USUAL, env));
    let Ok(signatures) = verified else { return false };
    package.archive.faults.is_empty()
        && package.manifest.is_ok()
        && signatures.stripped.is_empty()
        // a pair whose id changed is a scheme that is missing: a rule's finding, not a signature's fault
        && signatures.has(Scheme::V2)
        && signatures.has(Scheme::V3)
        && signatures.schemes.iter().all(|report| report.state == SchemeState::Verified)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_is_signed_is_sound_aligned_and_keeps_every_content(entries in entries()) {
        let (key, certificate) = signer();
        let input = package(&entries);
        let signed = sign(&input, key, certificate);
        let (package, signatures) = verified(&signed);
        prop_assert_eq!(&package.archive.faults, &[]);
        prop_assert_eq!(&signatures.schemes[0].state, &SchemeState::Verified);
        prop_assert!(package.misaligned().is_empty());
        let before = Package::read(&input, &Limits::USUAL).unwrap();
        prop_assert_eq!(before.archive.entries.len(), package.archive.entries.len());
        for (old, new) in before.archive.entries.iter().zip(&package.archive.entries) {
            prop_assert_eq!(&old.name, &new.name);
            let old_content = before.archive.read(&input, old, &Limits::USUAL).unwrap();
            prop_assert_eq!(old_content, package.archive.read(&signed, new, &Limits::USUAL).unwrap());
            if new.name.starts_with(b"lib/") && new.name.ends_with(b".so") && new.method == 0 && new.size > 0 {
                prop_assert_eq!(new.data_at % SHARED_LIBRARY_ALIGNMENT, 0);
            }
        }
    }

    #[test]
    fn signing_twice_gives_the_same_bytes_and_signing_the_output_changes_nothing(entries in entries()) {
        let (key, certificate) = signer();
        let input = package(&entries);
        let signed = sign(&input, key, certificate);
        prop_assert!(signed == sign(&input, key, certificate));
        prop_assert!(signed == sign(&signed, key, certificate));
    }

    #[test]
    fn a_byte_changed_that_the_signature_covers_is_never_clean(
        entries in entries(),
        place in any::<prop::sample::Index>(),
        bit in 0..8u8,
    ) {
        let (key, certificate) = signer();
        let mut bytes = sign(&package(&entries), key, certificate);
        let (package, _) = verified(&bytes);
        // all but the signing block: entries, directory, end record
        let block = package.block.unwrap().range;
        let covered: Vec<usize> =
            (0..bytes.len()).filter(|at| !block.contains(&(*at as u64))).collect();
        let at = covered[place.index(covered.len())];
        bytes[at] ^= 1 << bit;
        prop_assert!(!is_clean(&bytes), "byte {} of {}, block {:?}", at, bytes.len(), block);
    }

    #[test]
    fn a_byte_changed_in_a_pair_of_the_block_is_never_clean(place in any::<prop::sample::Index>(), bit in 0..8u8) {
        let (key, certificate) = signer();
        let mut bytes = sign(&package(&[]), key, certificate);
        let (package, _) = verified(&bytes);
        let block = package.block.unwrap();
        let length = |id| 12 + block.find(id).unwrap().len();
        // the block's size, then length, id and value of the first two pairs
        let covered = 8 + length(ninekeys_formats::signing_block::V2) + length(ninekeys_formats::signing_block::V3);
        let at = block.range.start as usize + place.index(covered);
        bytes[at] ^= 1 << bit;
        prop_assert!(!is_clean(&bytes), "byte {} of the block", at as u64 - block.range.start);
    }

    #[test]
    fn a_bundle_keeps_every_content_and_a_changed_one_is_never_clean(
        entries in entries(),
        place in any::<prop::sample::Index>(),
        bit in 0..8u8,
    ) {
        let (key, certificate) = signer();
        let input = bundle(&entries);
        let mut bytes = sign(&input, key, certificate);
        prop_assert!(bytes == sign(&bytes, key, certificate), "signing the output changes nothing");
        let (package, signatures) = verified(&bytes);
        prop_assert_eq!(&package.archive.faults, &[]);
        prop_assert_eq!(&signatures.schemes[0].state, &SchemeState::Verified);
        let before = contents(&bytes).unwrap();
        // v1 covers what the entries say, not how they are compressed: what still says the same is the same
        let at = place.index(bytes.len());
        bytes[at] ^= 1 << bit;
        if contents(&bytes).as_ref() != Some(&before) {
            prop_assert!(!is_clean_bundle(&bytes), "byte {} of {}", at, bytes.len());
        }
    }

    #[test]
    fn all_three_schemes_leave_no_byte_uncovered(
        entries in entries(),
        place in any::<prop::sample::Index>(),
        bit in 0..8u8,
    ) {
        let (key, certificate) = signer();
        let manifest = DemoBuild { min_sdk: 21, ..CROSSING }.manifest();
        let mut writer = Writer::new().deflated("AndroidManifest.xml", &manifest);
        for (number, (name, content, _)) in entries.iter().enumerate() {
            writer = writer.deflated(&format!("{name}{number}"), content);
        }
        let mut bytes = sign(&writer.finish(), key, certificate);
        let (package, signatures) = verified(&bytes);
        prop_assert!(signatures.has(Scheme::V1) && is_clean(&bytes));
        let block = package.block.unwrap().range;
        let covered: Vec<usize> =
            (0..bytes.len()).filter(|at| !block.contains(&(*at as u64))).collect();
        let at = covered[place.index(covered.len())];
        bytes[at] ^= 1 << bit;
        prop_assert!(!is_clean(&bytes), "byte {}", at);
    }

    #[test]
    fn a_mask_shows_all_but_the_secrets_however_the_text_is_cut(
        words in proptest::collection::vec("[ab]{0,4}|garnet|gar|net", 0..30),
        cuts in proptest::collection::vec(any::<prop::sample::Index>(), 0..6),
    ) {
        let text = words.concat();
        let secret = Secret::new("garnet".to_owned());
        let mut places: Vec<usize> = cuts.iter().map(|cut| cut.index(text.len() + 1)).collect();
        places.extend([0, text.len()]);
        places.sort_unstable();
        let mut mask = Mask::new([&secret]);
        let mut shown = Vec::new();
        for pair in places.windows(2) {
            shown.extend(mask.feed(&text.as_bytes()[pair[0]..pair[1]]));
        }
        shown.extend(mask.finish());
        prop_assert_eq!(String::from_utf8(shown).unwrap(), text.replace("garnet", "***"));
    }
}

/// A bundle with a manifest and any entries behind it.
fn bundle(entries: &[(String, Vec<u8>, bool)]) -> Vec<u8> {
    let manifest = Package::read(&CROSSING.aab(), &Limits::USUAL).unwrap();
    let entry = manifest.archive.find(b"base/manifest/AndroidManifest.xml").unwrap();
    let manifest = manifest.archive.read(&CROSSING.aab(), entry, &Limits::USUAL).unwrap();
    let mut writer = Writer::new().deflated("base/manifest/AndroidManifest.xml", &manifest);
    for (number, (name, content, stored)) in entries.iter().enumerate() {
        let name = format!("base/{name}{number}");
        writer = if *stored { writer.stored(&name, content) } else { writer.deflated(&name, content) };
    }
    writer.finish()
}

/// Names and contents of the entries that v1 covers; nothing when one cannot be read.
fn contents(bytes: &[u8]) -> Option<Vec<(Vec<u8>, Vec<u8>)>> {
    let package = Package::read(&bytes, &Limits::USUAL).ok()?;
    let entries = package.archive.entries.iter().filter(|entry| !entry.is_directory());
    entries
        .map(|entry| Some((entry.name.clone(), package.archive.read(&bytes, entry, &Limits::USUAL).ok()?)))
        .collect()
}

fn is_clean_bundle(bytes: &[u8]) -> bool {
    let Ok(package) = Package::read(&bytes, &Limits::USUAL) else { return false };
    let verified = common::with_env(common::NOW, |env| verify(&bytes, &package, &Limits::USUAL, env));
    let Ok(signatures) = verified else { return false };
    package.archive.faults.is_empty()
        && package.manifest.is_ok()
        && package.kind == PackageKind::Bundle
        && signatures.has(Scheme::V1)
        && signatures.schemes.iter().all(|report| report.state == SchemeState::Verified)
}
