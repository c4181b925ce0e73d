//! Files that our code did not make.

use crate::PROGRAM;
use testkit::TestEnv;

fn with_samples() -> TestEnv {
    let env = TestEnv::with_key(PROGRAM);
    for name in [
        "crossing-release.apk",
        "quayside-debug.apk",
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
fn v2_v3_and_v31_of_an_independent_signer_are_verified_and_v1_is_no_silence() {
    let env = with_samples();
    let cases = [
        ("crossing-signed-ec.apk", vec!["v2", "v3"], 0),
        ("crossing-signed-v1v2v3.apk", vec!["v2", "v3"], 1),
        ("crossing-signed-v3-lineage.apk", vec!["v2", "v3"], 1),
        ("crossing-signed-v31-v4.apk", vec!["v2", "v3", "v31"], 1),
    ];
    for (name, schemes, unverified) in cases {
        let json = env.run(&format!("check {name} --format json")).exit(1).json();
        let all = json["schemes"].as_array().unwrap();
        let verified: Vec<_> = all.iter().filter(|s| s["verified"] == true).map(|s| &s["scheme"]).collect();
        assert_eq!(verified, schemes, "{name}");
        let findings = json["verdict"]["findings"].as_array().unwrap();
        let unsupported: Vec<_> = findings.iter().filter(|f| f["rule"] == "algorithm-unsupported").collect();
        assert_eq!(unsupported.len(), unverified, "{name}: a scheme that is not verified is a finding");
        assert!(unsupported.iter().all(|finding| finding["level"] == "error"));
        for rule in ["signature-invalid", "archive-malformed", "lineage-invalid", "signature-stripped"] {
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
