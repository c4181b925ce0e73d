//! A signed build with any bit of it turned is not ready, or means what it meant before.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

mod common;

use common::{NOW, identity, sign, with_env};
use ninekeys_core::android::AndroidBuild;
use ninekeys_core::build::Build;
use ninekeys_core::demo::DemoBuild;
use ninekeys_core::keys::Algorithm;
use ninekeys_core::model::Policy;
use ninekeys_core::rules::{BuildLook, check_build};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::zip::write::Writer;

/// A small build for devices from SDK 21 on, signed with v1, v2 and v3.
fn signed() -> Vec<u8> {
    let build = DemoBuild { min_sdk: 21, ..ninekeys_core::demo::CROSSING };
    let input = Writer::new()
        .deflated("AndroidManifest.xml", &build.manifest())
        .deflated("classes.dex", b"dex\n035, and what a small program has")
        .finish();
    let (key, certificate) = identity(Algorithm::P256, "2031-05-01T00:00:00Z", 30);
    sign(&input, &key, &certificate)
}

/// What a ready build means: what its manifest says, what is in it, who signed it. Nothing when it is not ready.
fn meaning(bytes: &[u8]) -> Option<String> {
    let build = with_env(NOW, |env| Build::examine(&bytes, None, env)).ok()?;
    let ready = check_build(&BuildLook {
        file: "crossing.apk",
        build: &build,
        store: None,
        there: None,
        destination: None,
        app: None,
        policy: &Policy::default(),
        last: None,
        above: None,
        parts: &[],
        known_signers: &[],
        ios: None,
        highest_version: None,
        now: NOW.parse().unwrap(),
    })
    .is_ready();
    if !ready {
        return None;
    }
    let AndroidBuild { package, signatures } = build.android().unwrap();
    let mut contents: Vec<_> = package
        .archive
        .entries
        .iter()
        .map(|entry| (entry.name.clone(), package.archive.read(&bytes, entry, &Limits::USUAL).unwrap()))
        .collect();
    contents.sort();
    let signers: Vec<_> =
        signatures.signers.iter().map(|signer| (signer.scheme, &signer.certificate_fingerprint)).collect();
    Some(format!("{:?}{signers:?}{contents:?}", package.manifest.as_ref().unwrap()))
}

/// Turns these bits, one at a time, and tells how many left the build ready.
fn turned(bits: impl Iterator<Item = (usize, u8)>) -> usize {
    let mut bytes = signed();
    let before = meaning(&bytes).unwrap();
    let mut ready = 0;
    for (at, bit) in bits {
        let at = at % bytes.len();
        bytes[at] ^= bit;
        if let Some(now) = meaning(&bytes) {
            assert_eq!(now, before, "byte {at}, bit {bit:#04x}");
            ready += 1;
        }
        bytes[at] ^= bit;
    }
    ready
}

#[test]
fn three_thousand_turned_bits_end_in_no_other_meaning() {
    // a linear congruential generator: the same bits in each run, of builds that differ in their keys
    let mut state = 9u64;
    let random = std::iter::repeat_with(move || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((state >> 20) as usize, 1u8 << (state >> 60 & 7))
    });
    let ready = turned(random.take(3_000));
    // what no signature covers: the padding of the block, and what v1 and v2 leave to the archive
    assert!((1..2_000).contains(&ready), "{ready} of 3,000 ready");
}

/// Every byte of block, manifest and directory: `cargo test -p ninekeys-core --test mutations -- --ignored`.
#[test]
#[ignore = "some minutes"]
fn every_byte_turned_ends_in_no_other_meaning() {
    let length = signed().len();
    // every byte, each with a bit of its own: the directory, the block and every entry are in it
    let ready = turned((0..length).flat_map(|at| [(at, 1u8 << (at % 8)), (at, 0x80 >> (at % 8))]));
    assert!(ready > 0 && ready < length, "{ready} of {}", 2 * length);
}
