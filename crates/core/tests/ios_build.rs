//! Builds for iOS, signed and looked at again: what was signed is clean, and no byte of it can be another without being told.
//!
//! The executables in the builds were made by clang and lld; certificates and profiles by an independent authority.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

mod common;

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use common::{Memory, with_env};
use jiff::Timestamp;
use ninekeys_core::build::Build;
use ninekeys_core::env::Env;
use ninekeys_core::findings::Level;
use ninekeys_core::ios::code::SignedBy;
use ninekeys_core::ios::look::{Against, IosLook};
use ninekeys_core::ios::profile::Verified;
use ninekeys_core::ios::sign::claims::Declared;
use ninekeys_core::ios::sign::code::{CodeFailure, CodeSigner};
use ninekeys_core::ios::sign::{Embedded, Opened, Packed, SignError, Signed, Signing};
use ninekeys_core::ios::tree::ZipTree;
use ninekeys_core::keys::PrivateKey;
use ninekeys_core::keystore;
use ninekeys_core::model::{Destination, Policy};
use ninekeys_core::next::Earlier;
use ninekeys_core::rules::{BuildLook, Verdict, check_build};
use ninekeys_formats::info_plist::Changes;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::secret::SecretText;
use ninekeys_formats::x509::Certificate;
use ninekeys_formats::zip::{Archive, Entry, Zip64};
use proptest::prelude::*;

const NOW: &str = "2026-12-01T00:00:00Z";
const APP: &str = "Payload/Crossing.app";
const SHARE: &str = "Payload/Crossing.app/PlugIns/Share.appex";

fn file(name: &str) -> Vec<u8> {
    fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(name)).unwrap()
}

fn sample(name: &str) -> Vec<u8> {
    file(&format!("testkit/samples/ios/{name}"))
}

fn crossing() -> Vec<u8> {
    file("crates/core/demo/crossing-unsigned.ipa")
}

fn authority(name: &str) -> Certificate {
    let der = pem::blocks(&sample(name), pem::CERTIFICATE, &Limits::USUAL).remove(0);
    Certificate::parse(&der, &Limits::USUAL).unwrap()
}

/// The distribution identity of the samples, with its path to the root.
fn identity() -> (PrivateKey, Vec<Certificate>) {
    let password = SecretText::new("pier-pass-1".into());
    let store = keystore::open(&sample("distribution.p12"), &password, &Limits::USUAL).unwrap();
    let key = store.keys[0].unlock(&password, &Limits::USUAL).unwrap();
    let chain = vec![key.certificate, authority("intermediate.pem"), authority("root.pem")];
    (key.secret.lend(|der| PrivateKey::from_pkcs8(der)).unwrap(), chain)
}

fn profile(name: &str) -> Embedded {
    let bytes = sample(name);
    let pool = [authority("intermediate.pem"), authority("root.pem")];
    let profile = Verified::open(&bytes, &pool, NOW.parse().unwrap(), &Limits::USUAL).unwrap().profile;
    Embedded { bytes, profile }
}

fn profiles() -> BTreeMap<String, Embedded> {
    let all = [(APP, "crossing-store.mobileprovision"), (SHARE, "crossing-share-store.mobileprovision")];
    all.map(|(path, name)| (path.to_owned(), profile(name))).into()
}

/// What is different from build to build.
struct How {
    profiles: BTreeMap<String, Embedded>,
    declared: Declared,
    changes: Changes,
}

impl Default for How {
    fn default() -> Self {
        How { profiles: profiles(), declared: Declared::default(), changes: Changes::default() }
    }
}

fn with_signing<R>(how: &How, run: impl FnOnce(&Signing<'_>, &Env<'_>) -> R) -> R {
    let (key, chain) = identity();
    let signing = Signing {
        who: CodeSigner { signer: &key, chain: &chain, team: "GPFERRY009", timestamper: None },
        profiles: how.profiles.clone(),
        destination: Destination::Store,
        declared: how.declared.clone(),
        declared_inside: BTreeMap::new(),
        declared_is_all: false,
        changes: how.changes.clone(),
    };
    with_env(NOW, |env| run(&signing, env))
}

fn sign_with(input: &[u8], how: &How) -> Result<(Vec<u8>, Signed), SignError> {
    with_signing(how, |signing, env| {
        let tree = ZipTree::open(&input, &Limits::USUAL).map_err(|e| SignError::Malformed(e.to_string()))?;
        let opened = Opened::open(&tree)?;
        let signed = opened.sign(signing, env)?;
        let memory = Memory::default();
        Packed::lay_out(&tree, opened.container(), &signed)?.write(&memory, env).unwrap();
        Ok((memory.bytes(), signed))
    })
}

fn sign(input: &[u8]) -> Vec<u8> {
    sign_with(input, &How::default()).unwrap().0
}

fn verdict_of(build: &Build, destination: Option<Destination>, device: Option<&str>) -> Verdict {
    verdict_beside(build, destination, device, None)
}

/// The same where a store was asked what it has.
fn verdict_beside(
    build: &Build,
    destination: Option<Destination>,
    device: Option<&str>,
    there: Option<&[Earlier]>,
) -> Verdict {
    let roots = [authority("root.pem")];
    let pool = [authority("intermediate.pem"), authority("root.pem")];
    let against =
        Against { roots: &roots, pool: &pool, team: Some("GPFERRY009"), device, ..Against::default() };
    let now: Timestamp = NOW.parse().unwrap();
    let ios = IosLook::of(build.ios().unwrap(), against, now);
    check_build(&BuildLook {
        file: "build.ipa",
        build,
        store: None,
        there,
        destination,
        app: None,
        policy: &Policy::default(),
        last: None,
        highest_version: None,
        above: None,
        parts: &[],
        known_signers: &[],
        ios: Some(&ios),
        now,
    })
}

fn verdict(bytes: &[u8]) -> Verdict {
    let build = with_env(NOW, |env| Build::examine(&bytes, None, env)).unwrap();
    verdict_of(&build, Some(Destination::Store), None)
}

#[test]
fn what_a_store_has_speaks_against_what_it_would_refuse() {
    let bytes = sign(ninekeys_core::demo::CROSSING_IPA);
    let build = with_env(NOW, |env| Build::examine(&bytes, None, env)).unwrap();
    let says = build.says.as_ref().unwrap();
    let (version, number) = (says.version.clone().unwrap(), says.number());
    assert_eq!((version.as_str(), number.to_string().as_str()), ("2.4.0", "12"));
    let there =
        |version: &str, number: u64, live| Earlier { version: version.into(), number: number.into(), live };
    let found = |all: &[Earlier], to| {
        let verdict = verdict_beside(&build, Some(to), None, Some(all));
        let at_all = verdict
            .findings
            .iter()
            .filter(|one| one.rule.contains("version-") || one.rule.contains("number"));
        at_all.map(|one| (one.rule, one.level)).collect::<Vec<_>>()
    };
    let closed = ("version-closed", Level::Error);
    let number = ("build-number-not-higher", Level::Error);
    assert_eq!(found(&[there("2.4.0", 11, false), there("2.3.9", 40, true)], Destination::Store), []);
    assert_eq!(found(&[there("2.4.0", 12, false)], Destination::Store), [number]);
    assert_eq!(found(&[there("2.4.0", 11, true)], Destination::Store), [closed]);
    assert_eq!(found(&[there("2.10", 1, true)], Destination::Store), [("version-not-higher", Level::Error)]);
    // what goes elsewhere is closed to nobody
    assert_eq!(found(&[there("2.4.0", 11, true)], Destination::InHouse), []);
}

/// The rules that found something; one that says that nothing can be said where the archive does not open.
fn rules(bytes: &[u8]) -> Vec<&'static str> {
    match with_env(NOW, |env| Build::examine(&bytes, None, env)) {
        Err(_) => vec!["no archive"],
        Ok(build) => {
            let verdict = verdict_of(&build, Some(Destination::Store), None);
            verdict.findings.iter().map(|finding| finding.rule).collect()
        }
    }
}

/// The files of an archive, each with its entry.
fn unpacked(bytes: &[u8]) -> Vec<(Entry, Vec<u8>)> {
    let archive = Archive::open(&bytes, Zip64::Read, &Limits::USUAL).unwrap();
    assert_eq!(archive.faults, [], "{:?}", archive.faults);
    let read = |entry: &Entry| (entry.clone(), archive.read(&bytes, entry, &Limits::USUAL).unwrap());
    archive.entries.iter().map(read).collect()
}

/// An archive of these files, stored, with their modes.
fn packed(files: &[(Entry, Vec<u8>)]) -> Vec<u8> {
    let (mut body, mut directory) = (Vec::new(), Vec::new());
    for (entry, content) in files {
        let at = body.len() as u32;
        let mut shared = Vec::new();
        shared.extend([20u16, entry.flags & !8, 0, 0, 0x21].iter().flat_map(|n| n.to_le_bytes()));
        let size = content.len() as u32;
        let mut crc = flate2_crc(content);
        shared.append(&mut crc);
        shared.extend([size, size].iter().flat_map(|n| n.to_le_bytes()));
        shared.extend((entry.name.len() as u16).to_le_bytes());
        shared.extend([0, 0]);
        body.extend([b"PK\x03\x04", shared.as_slice(), &entry.name, content].concat());
        directory
            .extend([b"PK\x01\x02".as_slice(), &(3u16 << 8 | 20).to_le_bytes(), &shared, &[0; 6]].concat());
        directory.extend(entry.attributes.1.to_le_bytes());
        directory.extend(at.to_le_bytes());
        directory.extend(&entry.name);
    }
    let (at, size, count) = (body.len() as u32, directory.len() as u32, files.len() as u16);
    body.extend(directory);
    body.extend(ninekeys_formats::zip::write::end_record(count, size, at));
    body
}

fn flate2_crc(content: &[u8]) -> Vec<u8> {
    crc32fast::hash(content).to_le_bytes().to_vec()
}

fn name(entry: &Entry) -> String {
    entry.name_text()
}

/// The same build with one file changed, added (where there is none of the name) or taken away.
fn with_file(bytes: &[u8], path: &str, change: impl FnOnce(Option<Vec<u8>>) -> Option<Vec<u8>>) -> Vec<u8> {
    let mut all = unpacked(bytes);
    match all.iter().position(|(entry, _)| name(entry) == path) {
        Some(at) => {
            let (entry, content) = all.remove(at);
            all.extend(change(Some(content)).map(|content| (entry, content)));
        }
        None => all.extend(change(None).map(|content| (Entry::made_by_unix(path, 0o100_644), content))),
    }
    packed(&all)
}

#[test]
fn what_is_signed_is_clean_and_the_same_again() {
    let (bytes, signed) = sign_with(&crossing(), &How::default()).unwrap();
    assert_eq!(rules(&bytes), [] as [&str; 0]);
    assert_eq!((signed.executables, signed.left_out.len()), (4, 0));
    assert_eq!(sign(&crossing()), bytes, "the same input, material and clock give the same bytes");
    let build = with_env(NOW, |env| Build::examine(&bytes, None, env)).unwrap();
    let ios = build.ios().unwrap();
    let bundles: Vec<(&str, &str)> = ios.bundles.iter().map(|bundle| (bundle.name(), bundle.id())).collect();
    assert_eq!(
        bundles,
        [
            ("Crossing.app", "example.gannetpoint.crossing"),
            ("CrossingKit1.framework", "example.gannetpoint.crossing.kit1"),
            ("Share.appex", "example.gannetpoint.crossing.share"),
        ]
    );
    for executable in ios.executables() {
        for signature in executable.signatures() {
            assert!(matches!(&signature.by, SignedBy::Certificate(Some(_))), "{}", executable.path);
            assert_eq!(signature.team.as_deref(), Some("GPFERRY009"));
        }
    }
    let library = &ios.loose[0];
    assert_eq!(library.signatures().next().unwrap().identifier, "libside1");
    assert!(library.signatures().next().unwrap().entitlements.is_none(), "a library claims nothing");
    assert_eq!(build.signers.len(), 1);
}

#[test]
fn what_was_signed_before_is_signed_again_to_the_same_code() {
    let once = sign(&crossing());
    let twice = sign(&once);
    let (mut one, mut other) = (unpacked(&once), unpacked(&twice));
    one.sort_by_key(|(entry, _)| entry.name.clone());
    other.sort_by_key(|(entry, _)| entry.name.clone());
    for ((entry, one), (_, other)) in one.iter().zip(&other) {
        assert!(one == other, "{}", name(entry));
    }
    assert_eq!(rules(&twice), [] as [&str; 0]);
}

#[test]
fn nothing_else_is_touched() {
    let before = unpacked(&crossing());
    let bytes = sign(&crossing());
    let after = unpacked(&bytes);
    let own = ["Crossing", "CrossingKit1", "libside1.dylib", "Share"];
    for ((entry, content), (new, same)) in before.iter().zip(&after) {
        assert_eq!(
            (&entry.name, entry.attributes, entry.modified),
            (&new.name, new.attributes, new.modified)
        );
        let is_code = own.contains(&name(entry).rsplit('/').next().unwrap());
        assert_eq!(content != same, is_code, "{}", name(entry));
        if !is_code {
            assert_eq!((entry.compressed, entry.method), (new.compressed, new.method), "{}", name(entry));
        }
    }
    let added: Vec<String> = after[before.len()..].iter().map(|(entry, _)| name(entry)).collect();
    assert_eq!(added.len(), 5, "three seals and two profiles: {added:?}");
}

#[test]
fn a_byte_of_any_file_is_told() {
    let bytes = sign(&crossing());
    assert_eq!(
        rules(&packed(&unpacked(&bytes))),
        [] as [&str; 0],
        "packed in another way it is the same build"
    );
    for (entry, content) in unpacked(&bytes) {
        let path = name(&entry);
        // no seal is over it: formats section 3.1, and the page of what is not covered
        let uncovered =
            ["locversion.plist", "PkgInfo"].iter().any(|end| path.ends_with(end)) && path.contains("lproj");
        if entry.is_directory() || uncovered {
            continue;
        }
        for at in [0, content.len() / 2, content.len().saturating_sub(1)] {
            let changed = with_file(&bytes, &path, |content| {
                let mut content = content.unwrap();
                // behind a signature there are zeros up to its reserved end, which nothing covers
                if content.len() > 30_000 && at + 1 == content.len() {
                    content.push(0);
                }
                content[at] ^= 1;
                Some(content)
            });
            assert_ne!(rules(&changed), [] as [&str; 0], "{path} at {at}");
        }
    }
}

#[test]
fn files_that_are_gone_added_or_moved_are_told_by_their_rule() {
    let bytes = sign(&crossing());
    let text = format!("{APP}/a&b <c>.txt");
    assert_eq!(rules(&with_file(&bytes, &text, |_| None)), ["resource-modified"]);
    assert_eq!(rules(&with_file(&bytes, &text, |_| Some(b"other".to_vec()))), ["resource-modified"]);
    let new = |path: &str| with_file(&bytes, &format!("{APP}/{path}"), |_| Some(b"new".to_vec()));
    assert_eq!(rules(&new("new.txt")), ["resource-unsealed"]);
    assert_eq!(rules(&new("PlugIns/Share.appex/new.txt")), ["resource-unsealed"]);
    assert_eq!(rules(&new("Frameworks/CrossingKit1.framework/new")), ["resource-unsealed"]);
    // of a language nobody needs it may be gone
    let language = format!("{APP}/de.lproj/Localizable.strings");
    assert_eq!(rules(&with_file(&bytes, &language, |_| None)), [] as [&str; 0]);
    assert_eq!(rules(&with_file(&bytes, &language, |_| Some(vec![1]))), ["resource-modified"]);
    let seal = format!("{APP}/_CodeSignature/CodeResources");
    assert!(rules(&with_file(&bytes, &seal, |_| None)).contains(&"signature-invalid"));
    let profile = format!("{APP}/embedded.mobileprovision");
    let found = rules(&with_file(&bytes, &profile, |_| None));
    assert!(found.contains(&"profile-missing") && found.contains(&"resource-modified"), "{found:?}");
}

#[test]
fn where_the_path_is_missing_nothing_is_said_of_what_the_code_demands_of_it() {
    let bytes = with_signing(&How::default(), |signing, env| {
        let input = crossing();
        let tree = ZipTree::open(&input, &Limits::USUAL).unwrap();
        let opened = Opened::open(&tree).unwrap();
        // the signer's certificate alone goes into the message
        let who = CodeSigner { chain: &signing.who.chain[..1], ..signing.who };
        let alone = Signing {
            who,
            profiles: signing.profiles.clone(),
            declared: Declared::default(),
            declared_inside: BTreeMap::new(),
            changes: Changes::default(),
            ..*signing
        };
        let signed = opened.sign(&alone, env).unwrap();
        let memory = Memory::default();
        Packed::lay_out(&tree, opened.container(), &signed).unwrap().write(&memory, env).unwrap();
        memory.bytes()
    });
    let build = with_env(NOW, |env| Build::examine(&bytes, None, env)).unwrap();
    let ios = IosLook::of(build.ios().unwrap(), Against::default(), NOW.parse().unwrap());
    let (signed, signer) = ios.app().unwrap().signed().next().unwrap();
    assert_eq!(ios.meets(signed, signer), None);
    assert_eq!(rules(&bytes), [] as [&str; 0], "with the authorities at hand the path is whole");
}

#[test]
fn code_that_nobody_signed_is_told_where_it_is() {
    let bytes = sign(&crossing());
    let unsigned = unpacked(&crossing());
    for path in [
        "Frameworks/libside1.dylib",
        "Frameworks/CrossingKit1.framework/CrossingKit1",
        "PlugIns/Share.appex/Share",
    ] {
        let path = format!("{APP}/{path}");
        let (_, old) = unsigned.iter().find(|(entry, _)| name(entry) == path).unwrap();
        let found = verdict(&with_file(&bytes, &path, |_| Some(old.clone())));
        let nested = found.findings.iter().find(|finding| finding.rule == "nested-code-unsigned").unwrap();
        assert_eq!(nested.place.as_deref(), Some(path.as_str()));
    }
    assert!(rules(&crossing()).contains(&"build-unsigned"));
}

#[test]
fn a_profile_of_another_kind_app_or_signer_is_told() {
    let with = |app: &str, share: &str| {
        let all = [(APP, app), (SHARE, share)].map(|(path, name)| (path.to_owned(), profile(name)));
        let how = How { profiles: all.into(), ..How::default() };
        rules(&sign_with(&crossing(), &how).unwrap().0)
    };
    let (app, share) = ("crossing-store.mobileprovision", "crossing-share-store.mobileprovision");
    let devices = with("deckhand-devices.mobileprovision", share);
    assert!(
        devices.contains(&"profile-kind-wrong") && devices.contains(&"profile-app-mismatch"),
        "{devices:?}"
    );
    let swapped = with(share, app);
    assert_eq!(swapped.iter().filter(|rule| **rule == "profile-app-mismatch").count(), 2, "{swapped:?}");
    let wildcard = with("wildcard-development.mobileprovision", share);
    assert!(wildcard.contains(&"profile-lacks-identity"), "{wildcard:?}");
    // forged by a developer: it is put in by hand, since it does not verify
    let mut forged = profiles();
    forged.get_mut(APP).unwrap().bytes = sample("signed-by-developer.mobileprovision");
    let bytes = sign_with(&crossing(), &How { profiles: forged, ..How::default() }).unwrap().0;
    assert!(rules(&bytes).contains(&"profile-signature-invalid"));
    let mut ended = profiles();
    ended.get_mut(APP).unwrap().bytes = sample("crossing-store-expired.mobileprovision");
    let bytes = sign_with(&crossing(), &How { profiles: ended, ..How::default() }).unwrap().0;
    let found = rules(&bytes);
    assert!(found.contains(&"profile-expired") && found.contains(&"profile-lacks-identity"), "{found:?}");
}

#[test]
fn a_build_for_the_store_runs_on_no_device_and_one_for_devices_on_those_it_names() {
    let bytes = sign(&crossing());
    let build = with_env(NOW, |env| Build::examine(&bytes, None, env)).unwrap();
    let found = verdict_of(&build, Some(Destination::Store), Some("00008120-001A2B3C4D5E6F70"));
    assert_eq!(found.findings[0].rule, "profile-lacks-device");
    let profiles =
        BTreeMap::from([("Payload/Deckhand.app".into(), profile("deckhand-devices.mobileprovision"))]);
    let signed = How { profiles, ..How::default() };
    let (bytes, _) = sign_with(&file("crates/core/demo/deckhand-linker-signed.ipa"), &signed).unwrap();
    let build = with_env(NOW, |env| Build::examine(&bytes, None, env)).unwrap();
    let device = signed.profiles["Payload/Deckhand.app"].profile.devices.as_ref().unwrap()[0].clone();
    let on = |device: &str| {
        let found = verdict_of(&build, Some(Destination::Devices), Some(device));
        found.findings.iter().map(|finding| finding.rule).collect::<Vec<_>>()
    };
    assert_eq!(on(&device.to_lowercase()), [] as [&str; 0]);
    assert_eq!(on("00008120-FFFFFFFFFFFFFFFF"), ["profile-lacks-device"]);
}

#[test]
fn parts_for_simulators_and_rubbish_are_left_out_and_said() {
    let profiles =
        BTreeMap::from([("Payload/Deckhand.app".into(), profile("deckhand-devices.mobileprovision"))]);
    let input = file("crates/core/demo/deckhand-linker-signed.ipa");
    assert!(rules(&input).contains(&"build-for-simulator"));
    let (bytes, signed) = sign_with(&input, &How { profiles, ..How::default() }).unwrap();
    let app = "Payload/Deckhand.app";
    assert_eq!(signed.left_out.len(), 2);
    assert_eq!(
        signed.left_out[0],
        (format!("{app}/Frameworks/DeckhandKit1.framework/DeckhandKit1"), "x86_64".into())
    );
    assert_eq!(signed.rubbish, [format!("{app}/.DS_Store"), format!("{app}/assets/.DS_Store")]);
    assert!(!unpacked(&bytes).iter().any(|(entry, _)| name(entry).ends_with(".DS_Store")));
    let build = with_env(NOW, |env| Build::examine(&bytes, None, env)).unwrap();
    assert!(verdict_of(&build, Some(Destination::Devices), None).is_ready());
}

#[test]
fn an_executable_without_room_is_refused_and_says_how_much_it_has() {
    let profiles =
        BTreeMap::from([("Payload/Deckhand.app".into(), profile("deckhand-devices.mobileprovision"))]);
    let error =
        sign_with(&file("testkit/samples/deckhand-tight-header.ipa"), &How { profiles, ..How::default() });
    match error.unwrap_err() {
        SignError::Code { path, cause } => {
            assert_eq!(path, "Payload/Deckhand.app/Frameworks/DeckhandKit1.framework/DeckhandKit1");
            assert!(matches!(*cause, CodeFailure::Unsignable(_)));
            assert!(cause.to_string().starts_with("it has 8 bytes of room"), "{cause}");
        }
        other => panic!("{other}"),
    }
}

#[test]
fn a_zipped_app_becomes_an_ipa() {
    let mut files = unpacked(&crossing());
    files.retain(|(entry, _)| name(entry) != "Payload/");
    for (entry, _) in &mut files {
        entry.name = entry.name["Payload/".len()..].to_vec();
    }
    let profiles = profiles()
        .into_iter()
        .map(|(path, profile)| (path["Payload/".len()..].to_owned(), profile))
        .collect();
    let (bytes, _) = sign_with(&packed(&files), &How { profiles, ..How::default() }).unwrap();
    assert_eq!(rules(&bytes), [] as [&str; 0]);
    assert!(unpacked(&bytes).iter().all(|(entry, _)| entry.name.starts_with(b"Payload/")));
}

#[test]
fn what_is_set_is_set_in_the_app_and_in_what_is_inside_it() {
    let changes = Changes { build: Some("42".into()), version: Some("2.5".into()), ..Changes::default() };
    let (bytes, _) = sign_with(&crossing(), &How { changes, ..How::default() }).unwrap();
    assert_eq!(rules(&bytes), [] as [&str; 0]);
    let build = with_env(NOW, |env| Build::examine(&bytes, None, env)).unwrap();
    let says = build.says.as_ref().unwrap();
    assert_eq!((says.version.as_deref(), says.number().to_string().as_str()), (Some("2.5"), "42"));
    for bundle in build.ios().unwrap().bundles.iter().filter(|bundle| bundle.kind.has_profile()) {
        assert_eq!(bundle.info.as_ref().unwrap().build.as_deref(), Some("42"), "{}", bundle.path);
    }
}

#[test]
fn hostile_builds_are_told_and_never_signed() {
    let bytes = crossing();
    let with = |path: &str, content: &[u8]| with_file(&bytes, path, |_| Some(content.to_vec()));
    let deep = format!("<plist version=\"1.0\">{}", "<array>".repeat(10_000));
    let cases = [
        ("a name that leaves", with("Payload/Crossing.app/../../x", b"x")),
        ("a case twin", with("Payload/Crossing.app/INFO.plist", b"x")),
        ("a file below a file", with("Payload/Crossing.app/PkgInfo/x", b"x")),
        ("a second app", with("Payload/Other.app/Info.plist", b"x")),
        ("a deep list", with("Payload/Crossing.app/Info.plist", deep.as_bytes())),
        ("an executable that is a path", {
            let info = b"<plist version=\"1.0\"><dict><key>CFBundleExecutable</key><string>../x</string></dict></plist>";
            with("Payload/Crossing.app/Info.plist", info)
        }),
    ];
    for (what, case) in cases {
        assert!(rules(&case).contains(&"archive-malformed"), "{what}: {:?}", rules(&case));
        assert!(sign_with(&case, &How::default()).is_err(), "{what}");
    }
    let mut link = unpacked(&bytes);
    link.push((Entry::made_by_unix("Payload/Crossing.app/out", 0o120_755), b"../../../etc/passwd".to_vec()));
    assert!(rules(&packed(&link)).contains(&"archive-malformed"));
}

#[test]
fn seals_and_lists_that_lie_are_told_in_time() {
    let bytes = sign(&crossing());
    let seal = format!("{APP}/_CodeSignature/CodeResources");
    let slow = b"<plist version=\"1.0\"><dict><key>files2</key><dict/><key>rules2</key><dict><key>^(a+)+$</key><true/></dict></dict></plist>";
    for content in [b"<plist".as_slice(), b"", slow, &b"<plist version=\"1.0\"><dict/></plist>"[..]] {
        let found = rules(&with_file(&bytes, &seal, |_| Some(content.to_vec())));
        assert!(found.contains(&"signature-invalid"), "{found:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Whatever is done to a signed build, it is told or an error; nothing panics.
    #[test]
    fn a_build_with_any_bytes_changed_is_told(at in 0usize..40_000, byte in 1u8..=255) {
        let bytes = SIGNED.with(Clone::clone);
        let mut changed = bytes.clone();
        let at = at % changed.len();
        changed[at] ^= byte;
        let found = rules(&changed);
        // what stays clean says the same of the same files
        if found.is_empty() {
            let files = |bytes: &[u8]| {
                let mut all: Vec<(Vec<u8>, Vec<u8>)> =
                    unpacked(bytes).into_iter().map(|(entry, content)| (entry.name, content)).collect();
                all.retain(|(_, content)| content.len() < 30_000);
                all
            };
            prop_assert_eq!(files(&changed), files(&bytes));
        }
    }
}

thread_local! {
    static SIGNED: Vec<u8> = sign(&crossing());
}
