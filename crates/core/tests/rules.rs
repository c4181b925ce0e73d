//! Every rule for builds says what it should on a build with exactly that wrong, and nothing on a good one.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

mod common;

use std::collections::BTreeMap;

use common::{NOW, identity, sign, with_env};
use jiff::Timestamp;
use ninekeys_core::android::{Opened, Package};
use ninekeys_core::build::Build;
use ninekeys_core::certificate::{Subject, self_signed};
use ninekeys_core::demo::{CROSSING, DemoBuild};
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::findings::{Level, Mend};
use ninekeys_core::keys::Algorithm;
use ninekeys_core::model::{
    Android, App, BuildNumber, Destination, NextUpload, Policy, ReleaseFacts, Role, StoreKeys,
};
use ninekeys_core::rules::{BuildLook, KnownSigner, Part, Verdict, check_build};
use ninekeys_formats::limits::Limits;

/// Signs a build in memory, with a certificate of so many years from `made` on.
fn signed(build: &DemoBuild, made: &str, years: u16) -> Vec<u8> {
    let (key, certificate) = identity(Algorithm::P256, made, years);
    sign(&build.apk(), &key, &certificate)
}

struct Case {
    bytes: Vec<u8>,
    now: &'static str,
    destination: Option<Destination>,
    app: App,
    policy: Policy,
    last: Option<ReleaseFacts>,
    above: Option<BuildNumber>,
    known: Vec<KnownSigner>,
    parts: Vec<Part>,
}

fn case(bytes: Vec<u8>) -> Case {
    let android = Android {
        package: CROSSING.package.into(),
        destinations: vec![],
        permissions: None,
        store_keys: None,
        stores: BTreeMap::new(),
    };
    let app = App {
        title: "Crossing".into(),
        version: Some("2.4.0".into()),
        android: Some(android),
        ..App::default()
    };
    Case {
        bytes,
        now: NOW,
        destination: Some(Destination::Direct),
        app,
        policy: Policy { due_days: 45, target_sdk: Some(35) },
        last: None,
        above: None,
        known: Vec::new(),
        parts: Vec::new(),
    }
}

fn verdict(case: &Case) -> Verdict {
    let build = with_env(case.now, |env| Build::examine(&case.bytes, None, env)).unwrap();
    check_build(&BuildLook {
        file: "crossing-2.4.0-12-direct.apk",
        build: &build,
        store: None,
        there: None,
        destination: case.destination,
        app: Some(("crossing", &case.app)),
        policy: &case.policy,
        last: case.last.as_ref(),
        above: case.above.as_ref(),
        parts: &case.parts,
        known_signers: &case.known,
        ios: None,
        highest_version: None,
        now: case.now.parse::<Timestamp>().unwrap(),
    })
}

fn rules(case: &Case) -> Vec<(&'static str, Level)> {
    verdict(case).findings.iter().map(|finding| (finding.rule, finding.level)).collect()
}

fn signing_with(key: &str, destination: Destination) -> Option<Mend> {
    Some(Mend::Sign { key: Some(key.into()), destination: Some(destination) })
}

fn good() -> Vec<u8> {
    signed(&CROSSING, "2031-05-01T00:00:00Z", 30)
}

#[test]
fn a_good_build_has_nothing_said_of_it() {
    let verdict = verdict(&case(good()));
    assert_eq!(verdict.findings, []);
    assert!(verdict.is_ready() && verdict.fine == verdict.rules && verdict.rules >= 19);
    let skipped: Vec<&str> = verdict.skipped.iter().map(|skipped| skipped.rule).collect();
    assert_eq!(
        skipped,
        [
            "signer-changed",
            "signer-unknown",
            "keys-swapped",
            "displayed-name-mismatch",
            "permissions-differ",
            "build-number-not-higher"
        ]
    );
}

#[test]
fn dates_of_the_certificate_are_compared_with_the_given_time() {
    let mut soon = case(good());
    soon.now = "2061-04-20T00:00:00Z";
    assert_eq!(rules(&soon), [("identity-expires-soon", Level::Warning)]);
    soon.now = "2061-05-02T00:00:00Z";
    assert_eq!(rules(&soon), [("identity-expired", Level::Error)]);
    soon.now = "2031-04-30T00:00:00Z";
    assert_eq!(rules(&soon), [("identity-not-yet-valid", Level::Error)]);
    let short = case(signed(&CROSSING, "2031-05-01T00:00:00Z", 24));
    assert_eq!(rules(&short), [("key-validity-short", Level::Warning)]);
}

#[test]
fn an_unsigned_build_is_unsigned_and_its_entries_unaligned() {
    let unsigned = case(CROSSING.apk());
    assert_eq!(rules(&unsigned), [("build-unsigned", Level::Error), ("archive-unaligned", Level::Error)]);
}

#[test]
fn every_changed_byte_of_the_signed_content_breaks_the_signature() {
    let bytes = good();
    for at in [5_000, 100_000, 200_000] {
        let mut changed = case(bytes.clone());
        changed.bytes[at] ^= 1;
        assert!(rules(&changed).contains(&("signature-invalid", Level::Error)), "byte {at}");
    }
}

#[test]
fn what_the_manifest_says_is_judged_by_the_destination() {
    let debug = DemoBuild { debuggable: true, test_only: true, ..CROSSING };
    let mut one = case(signed(&debug, "2031-05-01T00:00:00Z", 30));
    assert_eq!(rules(&one), [("build-debuggable", Level::Error), ("build-test-only", Level::Error)]);
    one.destination = None;
    assert_eq!(rules(&one).len(), 2, "a build of unknown destination may go out");
    one.destination = Some(Destination::Development);
    assert_eq!(rules(&one), []);
    let mut store = case(good());
    store.destination = Some(Destination::Store);
    assert_eq!(rules(&store), [("bundle-wanted", Level::Warning)]);
    // what the store takes at least is asked for where a build goes there, and nowhere else
    store.policy.target_sdk = None;
    let noted = [("target-sdk-too-low", Level::Note), ("bundle-wanted", Level::Warning)];
    assert_eq!(rules(&store), noted);
    store.destination = Some(Destination::Direct);
    assert_eq!(rules(&store), []);
}

#[test]
fn project_and_policy_are_compared() {
    let mut one = case(good());
    one.app.version = Some("2.5.0".into());
    one.policy.target_sdk = Some(36);
    one.app.android = Some(Android {
        package: "example.other".into(),
        destinations: vec![],
        permissions: None,
        store_keys: None,
        stores: BTreeMap::new(),
    });
    let found: Vec<_> = rules(&one).into_iter().map(|(name, _)| name).collect();
    assert_eq!(found, ["build-id-mismatch", "build-version-mismatch", "target-sdk-too-low"]);
    let odd = DemoBuild { min_sdk: 36, ..CROSSING };
    let odd = case(signed(&odd, "2031-05-01T00:00:00Z", 30));
    assert_eq!(rules(&odd), [("sdk-range-invalid", Level::Warning)]);
}

#[test]
fn number_and_signer_are_compared_with_the_last_release() {
    let mut one = case(good());
    one.above = Some(12.into());
    assert_eq!(rules(&one), [("build-number-not-higher", Level::Error)]);
    one.above = Some(11.into());
    assert_eq!(rules(&one), []);
    one.known = vec![known("crossing-signing", Role::Signing, &"00".repeat(32))];
    let verdict = verdict(&one);
    assert_eq!(verdict.findings[0].rule, "signer-changed");
    assert_eq!(verdict.findings[0].mend, signing_with("crossing-signing", Destination::Direct));
}

#[test]
fn a_build_that_only_newer_devices_could_read_lacks_a_scheme() {
    use ninekeys_formats::signing_block::{V2, V3};
    let bytes = good();
    let block = Package::read(&bytes, &Limits::USUAL).unwrap().block.unwrap();
    let v3 = block.find(V3).unwrap().to_vec();
    let only_v3 = case(common::with_block(&bytes, &[(V3, v3.clone())]));
    assert_eq!(rules(&only_v3), [("signature-scheme-missing", Level::Error)]);
    let both = [(V2, block.find(V2).unwrap().to_vec()), (V3, v3)];
    assert_eq!(rules(&case(common::with_block(&bytes, &both))), []);
}

#[test]
fn a_build_for_old_devices_needs_the_old_scheme() {
    let old = DemoBuild { min_sdk: 17, ..CROSSING };
    let input = old.apk();
    let opened = Opened::open(&input, &Limits::USUAL).unwrap();
    let refused = opened.allow(Destination::Direct).err().unwrap();
    assert!(refused.to_string().contains("runs from SDK 17 on"), "{refused}");
    let old = DemoBuild { min_sdk: 21, ..CROSSING };
    assert_eq!(rules(&case(signed(&old, "2031-05-01T00:00:00Z", 30))), []);
}

/// The fingerprint of the key that signed the bytes.
fn signer_of(bytes: &[u8]) -> String {
    common::verified(bytes).1.signers[0].certificate_fingerprint.clone()
}

fn known(name: &str, role: Role, certificate: &str) -> KnownSigner {
    KnownSigner {
        name: name.into(),
        role,
        key: "22".repeat(32),
        certificate: certificate.into(),
        replaces: Vec::new(),
    }
}

#[test]
fn the_same_key_under_a_renewed_certificate_is_another_signer() {
    let (key, first) = identity(Algorithm::P256, "2031-05-01T00:00:00Z", 30);
    let subject = Subject { common_name: Some("Crossing renewed".into()), ..Subject::default() };
    let renewed = with_env("2031-05-02T00:00:00Z", |env| self_signed(&key, &subject, 30, env).unwrap());
    let old = common::verified(&sign(&CROSSING.apk(), &key, &first)).1.signers[0].clone();
    let mut one = case(sign(&CROSSING.apk(), &key, &renewed));
    let held = KnownSigner {
        name: "crossing-signing".into(),
        role: Role::Signing,
        key: old.key_fingerprint,
        certificate: old.certificate_fingerprint,
        replaces: Vec::new(),
    };
    one.known = vec![held.clone()];
    let said = verdict(&one);
    assert_eq!(rules(&one), [("signer-changed", Level::Error)]);
    let finding = &said.findings[0];
    assert!(
        finding.text.contains("the app's key under another certificate than the cabinet's"),
        "{finding:?}"
    );
    assert!(finding.found.as_ref().unwrap().contains("Crossing renewed"), "{finding:?}");
    assert_eq!(finding.mend, signing_with("crossing-signing", Destination::Direct));
    // once the cabinet holds the renewed one too, it is one of the app's
    let own = signer_of(&one.bytes);
    one.known.push(KnownSigner { name: "renewed".into(), certificate: own, ..held });
    assert_eq!(rules(&one), []);
}

#[test]
fn the_apps_other_key_is_said_by_destination_and_only_when_there_are_two() {
    let bytes = good();
    let own = signer_of(&bytes);
    let mut one = case(bytes);
    // the only key of an app is for everything
    one.known = vec![known("s", Role::Signing, &own)];
    one.destination = Some(Destination::Store);
    assert_eq!(rules(&one), [("bundle-wanted", Level::Warning)]);
    let other = "11".repeat(32);
    one.known = vec![known("s", Role::Signing, &own), known("u", Role::Upload, &other)];
    assert_eq!(rules(&one), [("keys-swapped", Level::Error), ("bundle-wanted", Level::Warning)]);
    assert_eq!(verdict(&one).findings[0].mend, signing_with("u", Destination::Store));
    one.destination = Some(Destination::Direct);
    assert_eq!(rules(&one), []);
    one.known = vec![known("s", Role::Signing, &other), known("u", Role::Upload, &own)];
    assert_eq!(rules(&one), [("keys-swapped", Level::Error)]);
    // one key in both places is no mistake
    one.known.push(known("s2", Role::Signing, &own));
    assert_eq!(rules(&one), []);
    // where it goes is not known: either key may be right
    one.known.pop();
    one.destination = None;
    assert_eq!(rules(&one), []);
}

#[test]
fn a_debug_key_is_recognised_by_its_certificate() {
    use ninekeys_core::certificate::is_debug_certificate;
    let (key, _) = identity(Algorithm::P256, NOW, 30);
    let name = |text: &str| Some(text.to_owned());
    let subject = Subject {
        common_name: name("Android Debug"),
        organisation: name("Android"),
        country: name("US"),
        ..Subject::default()
    };
    let certificate = with_env("2031-05-01T00:00:00Z", |env| self_signed(&key, &subject, 30, env).unwrap());
    let mut one = case(sign(&CROSSING.apk(), &key, &certificate));
    assert_eq!(rules(&one), [("debug-key", Level::Error)]);
    one.destination = Some(Destination::Development);
    assert_eq!(rules(&one), []);
    for yes in
        ["O=Android,CN=Android Debug,C=US", "c=us, o=android, cn=android debug", "CN=Android Debug+O=Android"]
    {
        assert!(is_debug_certificate(yes, "00"), "{yes}");
    }
    let published = "a40da80a59d170caa950cf15c18c454d47a39b26989d8b640ecd745ba71bf5dc";
    assert!(is_debug_certificate("CN=anybody", published));
    for no in ["CN=Android Debugger,O=Android", "CN=Android Debug", "O=Android", "CN=x\\,O=Android"] {
        assert!(!is_debug_certificate(no, "00"), "{no}");
    }
}

/// A store that takes builds under this certificate.
fn store_keys(upload: &str) -> StoreKeys {
    StoreKeys { signing: "0".repeat(64), upload: upload.to_owned(), next_upload: None }
}

#[test]
fn a_store_that_signs_takes_builds_of_the_upload_key_that_counts() {
    let mut one = case(good());
    one.destination = Some(Destination::Store);
    let keys = |keys: StoreKeys, one: &mut Case| {
        one.app.android.as_mut().unwrap().store_keys = Some(keys);
    };
    keys(store_keys(&"1".repeat(64)), &mut one);
    assert_eq!(rules(&one), [("signer-unknown", Level::Error), ("bundle-wanted", Level::Warning)]);
    let build = with_env(one.now, |env| Build::examine(&one.bytes, None, env)).unwrap();
    let own = build.signers[0].certificate_fingerprint.clone();
    keys(store_keys(&own), &mut one);
    assert_eq!(rules(&one), [("bundle-wanted", Level::Warning)]);
    // one that waits counts from its time on, and the one before it no more
    let from = |at: &str| NextUpload { certificate: "2".repeat(64), from: at.parse().unwrap() };
    keys(StoreKeys { next_upload: Some(from("2031-12-01T00:00:00Z")), ..store_keys(&own) }, &mut one);
    assert_eq!(rules(&one), [("bundle-wanted", Level::Warning)]);
    keys(StoreKeys { next_upload: Some(from("2031-01-01T00:00:00Z")), ..store_keys(&own) }, &mut one);
    assert_eq!(rules(&one), [("signer-unknown", Level::Error), ("bundle-wanted", Level::Warning)]);
}

#[test]
fn a_bundle_has_rules_of_its_own() {
    let (key, certificate) = identity(Algorithm::P256, "2031-05-01T00:00:00Z", 30);
    let mut one = case(sign(&CROSSING.aab(), &key, &certificate));
    one.destination = Some(Destination::Store);
    assert_eq!(rules(&one), [("enrolment-missing", Level::Note)]);
    one.app.android = one
        .app
        .android
        .map(|android| Android { store_keys: Some(store_keys(&sha256_hex(&certificate))), ..android });
    assert_eq!(rules(&one), []);
    one.destination = Some(Destination::Direct);
    assert_eq!(rules(&one), [("package-wanted", Level::Error)]);
    let mut unsigned = case(CROSSING.aab());
    unsigned.destination = Some(Destination::Store);
    assert_eq!(rules(&unsigned), [("build-unsigned", Level::Error), ("enrolment-missing", Level::Note)]);
    let debug = DemoBuild { debuggable: true, code: 0, ..CROSSING };
    let mut debug = case(sign(&debug.aab(), &key, &certificate));
    debug.destination = Some(Destination::Store);
    debug.above = Some(0.into());
    let found = verdict(&debug);
    let placed = found.findings.iter().filter_map(|f| Some((f.rule, f.place.as_deref()?)));
    let places: Vec<_> = placed.collect();
    let manifest = "base/manifest/AndroidManifest.xml";
    assert_eq!(places, [("build-debuggable", manifest), ("build-number-not-higher", manifest)]);
}

#[test]
fn permissions_beyond_the_list_are_errors_and_those_that_are_gone_are_warned_of() {
    let sample = "../../testkit/samples/crossing-signed-v1v2v3.apk";
    let mut case =
        case(std::fs::read(std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join(sample)).unwrap());
    let listed = |all: &[&str]| Some(all.iter().map(|one| (*one).to_owned()).collect());
    let (net, camera) = ("android.permission.INTERNET", "android.permission.CAMERA");
    case.app.android.as_mut().unwrap().permissions = listed(&[net]);
    let more = rules(&case).into_iter().filter(|(rule, _)| *rule == "permissions-differ").collect::<Vec<_>>();
    case.app.android.as_mut().unwrap().permissions = listed(&[net, camera, "android.permission.NFC"]);
    let less = rules(&case).into_iter().filter(|(rule, _)| *rule == "permissions-differ").collect::<Vec<_>>();
    assert_eq!(
        (more, less),
        (vec![("permissions-differ", Level::Error)], vec![("permissions-differ", Level::Warning)])
    );
}
