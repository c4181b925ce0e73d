//! Builds with one thing wrong each.

use ninekeys_core::demo::{CROSSING, DemoBuild, QUAYSIDE_DEBUG};
use ninekeys_formats::zip::write::Writer;

/// Crossing's release build.
pub fn crossing() -> DemoBuild<'static> {
    CROSSING
}

/// Crossing with another version code.
pub fn crossing_code(code: u32) -> DemoBuild<'static> {
    DemoBuild { code, ..CROSSING }
}

/// Quayside, debuggable.
pub fn quayside_debug() -> DemoBuild<'static> {
    QUAYSIDE_DEBUG
}

/// Every kind of malformed build: its name, its bytes, and whether it opens as an archive at all.
pub fn malformed() -> Vec<(&'static str, Vec<u8>, bool)> {
    let good = CROSSING.apk();
    let mut cases = vec![
        ("no-zip", b"this is a letter, not a build".repeat(40), false),
        ("truncated", good[..good.len() / 2].to_vec(), false),
        ("cut-at-the-end", good[..good.len() - 9].to_vec(), false),
        ("empty", Vec::new(), false),
    ];
    let end = last(&good, b"PK\x05\x06");
    let central = first(&good, b"PK\x01\x02");
    let mut sizes = good.clone();
    sizes[central + 20..central + 28].copy_from_slice(&[0xff; 8]);
    cases.push(("four-gibibytes", sizes, true));
    let mut directory = good.clone();
    directory[end + 12..end + 16].copy_from_slice(&[0xff; 4]);
    cases.push(("directory-of-four-gibibytes", directory, false));
    cases.push(("stray-tail", [good.clone(), b"tail".to_vec()].concat(), true));
    cases.push(("duplicate-names", duplicate_names(), true));
    cases.push(("manifest-offsets", manifest_offsets(), true));
    cases.push(("data-in-front", in_front(&good), true));
    cases.push(("encrypted-entry", encrypted(&good), true));
    cases.push(("two-manifests", two_manifests(), true));
    for (name, path) in
        [("climbing", "assets/../../../etc/ferry"), ("absolute", "/etc/ferry"), ("windows", "..\\ferry")]
    {
        let writer = Writer::new().deflated("AndroidManifest.xml", &CROSSING.manifest());
        cases.push((name, writer.stored(path, b"x").finish(), true));
    }
    let mut bundle = CROSSING.aab();
    let at = first(&bundle, b"base/manifest/AndroidManifest.xml") + 33;
    bundle[at + 4..at + 20].fill(0xff);
    cases.push(("bundle-manifest", bundle, true));
    cases.push(("no-manifest", Writer::new().stored("classes.dex", b"dex").finish(), true));
    cases
}

fn duplicate_names() -> Vec<u8> {
    Writer::new()
        .deflated("AndroidManifest.xml", &CROSSING.manifest())
        .stored("classes.dex", b"one")
        .stored("classes.dex", b"two")
        .finish()
}

fn two_manifests() -> Vec<u8> {
    Writer::new()
        .deflated("AndroidManifest.xml", &CROSSING.manifest())
        .deflated("AndroidManifest.xml", &QUAYSIDE_DEBUG.manifest())
        .finish()
}

/// A program in front of the first entry, with every offset put right.
fn in_front(good: &[u8]) -> Vec<u8> {
    let front = b"#!/bin/sh\necho x\n";
    let mut bytes = [front, good].concat();
    let add = |bytes: &mut Vec<u8>, at: usize| {
        let offset = u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) + front.len() as u32;
        bytes[at..at + 4].copy_from_slice(&offset.to_le_bytes());
    };
    let end = last(&bytes, b"PK\x05\x06");
    add(&mut bytes, end + 16);
    let mut at = u32::from_le_bytes(bytes[end + 16..end + 20].try_into().unwrap()) as usize;
    while at < end {
        add(&mut bytes, at + 42);
        let lengths = [28, 30, 32]
            .map(|field| usize::from(u16::from_le_bytes([bytes[at + field], bytes[at + field + 1]])));
        at += 46 + lengths.iter().sum::<usize>();
    }
    bytes
}

/// The first entry said to be encrypted, in both its headers.
fn encrypted(good: &[u8]) -> Vec<u8> {
    let mut bytes = good.to_vec();
    let central = first(&bytes, b"PK\x01\x02");
    bytes[6] |= 1;
    bytes[central + 8] |= 1;
    bytes
}

fn manifest_offsets() -> Vec<u8> {
    let mut manifest = CROSSING.manifest();
    manifest[36..40].copy_from_slice(&0xffff_fff0u32.to_le_bytes());
    Writer::new().deflated("AndroidManifest.xml", &manifest).finish()
}

/// The same package with the size of its signing block changed.
pub fn lying_block(signed: &[u8]) -> Vec<u8> {
    let mut bytes = signed.to_vec();
    let magic = last(&bytes, b"APK Sig Block 42");
    bytes[magic - 8..magic].copy_from_slice(&(1u64 << 40).to_le_bytes());
    bytes
}

/// Where `what` first stands in `bytes`.
pub fn first(bytes: &[u8], what: &[u8]) -> usize {
    bytes.windows(what.len()).position(|window| window == what).unwrap()
}

/// Where `what` last stands in `bytes`.
pub fn last(bytes: &[u8], what: &[u8]) -> usize {
    bytes.windows(what.len()).rposition(|window| window == what).unwrap()
}
