//! Files that our code did not make.

use crate::PROGRAM;
use testkit::TestEnv;

fn with_samples() -> TestEnv {
    let env = TestEnv::with_key(PROGRAM);
    for name in [
        "crossing-release.apk",
        "quayside-debug.apk",
        "crossing-signed-v1.apk",
        "crossing-signed-v1v2v3.apk",
        "crossing-signed-ec.apk",
        "crossing-signed-v3-lineage.apk",
        "crossing-signed-v31-v4.apk",
    ] {
        env.file(name, &std::fs::read(testkit::data("samples").join(name)).unwrap());
    }
    env
}

#[test]
fn the_release_build_is_signed_and_its_verdict_clean() {
    let env = with_samples();
    env.run("sign crossing-release.apk --for direct --to out").exit(0).says("all fine");
    env.run("check out/crossing-2.4.0-12-direct.apk --for direct").exit(0).says("✓ Ready for direct release");
    let said = env.run("inspect out/crossing-2.4.0-12-direct.apk").exit(0);
    said.says("lowest 24, target 35").says("29 entries");
}

#[test]
fn the_debuggable_build_is_refused_for_what_it_is() {
    let env = with_samples();
    env.run("sign quayside-debug.apk --for direct")
        .exit(5)
        .says("it is debuggable")
        .says("explain build-debuggable");
    env.run("check quayside-debug.apk").exit(1).says("build-debuggable").says("build-unsigned");
}

#[test]
fn every_scheme_of_an_independent_signer_is_verified() {
    let env = with_samples();
    let cases = [
        ("crossing-signed-v1.apk", vec!["v1"]),
        ("crossing-signed-ec.apk", vec!["v2", "v3"]),
        ("crossing-signed-v1v2v3.apk", vec!["v1", "v2", "v3"]),
        ("crossing-signed-v3-lineage.apk", vec!["v1", "v2", "v3"]),
        ("crossing-signed-v31-v4.apk", vec!["v1", "v2", "v3", "v3.1"]),
    ];
    for (name, schemes) in cases {
        let json = env.run(&format!("check {name} --format json")).exit_either(0, 1).json();
        let all = json["android"]["schemes"].as_array().unwrap();
        assert!(all.iter().all(|s| s["verified"] == true), "{name}: {all:?}");
        let found: Vec<_> = all.iter().map(|s| &s["scheme"]).collect();
        assert_eq!(found, schemes, "{name}");
        let findings = json["verdict"]["findings"].as_array().unwrap();
        let silent = [
            "signature-invalid",
            "archive-malformed",
            "lineage-invalid",
            "signature-stripped",
            "algorithm-unsupported",
        ];
        for rule in silent {
            assert!(!findings.iter().any(|f| f["rule"] == rule), "{name}: {rule}");
        }
    }
}

#[test]
fn a_signature_that_was_taken_out_is_missed() {
    let env = with_samples();
    // v3's id becomes an unknown one: v1 and v2 still announce it
    let mut bytes = env.read("crossing-signed-v1v2v3.apk");
    let id = testkit::builds::last(&bytes, &0xf053_68c0u32.to_le_bytes());
    bytes[id] ^= 1;
    env.file("stripped.apk", &bytes);
    env.run("check stripped.apk").exit(1).says("signature-stripped").says("scheme v3");
    // the same with the whole block gone: what is left is a good v1 signature that announces more
    let bytes = env.read("crossing-signed-v1v2v3.apk");
    let end = testkit::builds::last(&bytes, b"PK\x05\x06");
    let at = |from: usize| u32::from_le_bytes(bytes[from..from + 4].try_into().unwrap()) as usize;
    let directory = at(end + 16);
    let size = u64::from_le_bytes(bytes[directory - 24..directory - 16].try_into().unwrap()) as usize;
    let block = directory - size - 8;
    let mut without = [&bytes[..block], &bytes[directory..]].concat();
    let end = end - (directory - block);
    without[end + 16..end + 20].copy_from_slice(&(block as u32).to_le_bytes());
    env.file("v1-left.apk", &without);
    env.run("check v1-left.apk").exit(1).says("signature-stripped").says("scheme v2").says("scheme v3");
}

#[test]
fn signing_it_anew_drops_every_old_signature() {
    let env = with_samples();
    env.run("sign crossing-signed-ec.apk --to out").exit(0).says("the old signature was dropped");
    env.run("inspect out/crossing-2.3.0-11-direct.apk")
        .exit(0)
        .says("v2  verified")
        .says("v3  verified")
        .is_silent_on("not verified");
}
