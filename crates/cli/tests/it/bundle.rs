//! Bundles: signed for the store, checked, and confirmed by the Java runtime.

use crate::PROGRAM;
use ninekeys_core::demo::DemoBuild;
use testkit::{TestEnv, builds, data, has};

fn with_bundle() -> TestEnv {
    let env = TestEnv::with_key(PROGRAM);
    env.file("crossing.aab", &builds::crossing().aab());
    env
}

#[test]
fn a_bundle_is_signed_for_the_store_with_the_upload_key_and_v1_alone() {
    let env = with_bundle();
    env.run("keystore create up --app crossing --kind upload --common-name Up --algorithm rsa-2048").exit(0);
    let said = env.run("sign crossing.aab --to out").exit(0);
    said.says("✓ out/crossing-2.4.0-12-store.aab")
        .says("signed with   up, certificate")
        .says("scheme        v1 ·");
    let json = env.run("check out/crossing-2.4.0-12-store.aab --for store --format json").exit(0).json();
    assert_eq!((&json["form"], &json["ready"]), (&"aab".into(), &true.into()));
    assert_eq!(json["android"]["schemes"].as_array().unwrap().len(), 1);
    assert_eq!(
        (&json["android"]["manifest"]["version_code"], &json["android"]["manifest"]["min_sdk"]),
        (&12.into(), &24.into())
    );
    let bytes = env.read("out/crossing-2.4.0-12-store.aab");
    env.run("sign out/crossing-2.4.0-12-store.aab --to again").exit(0).says("the old signature was dropped");
    assert!(env.read("again/crossing-2.4.0-12-store.aab") == bytes, "signing again gives the same bytes");
    env.run("inspect out/crossing-2.4.0-12-store.aab").exit(0).says("AAB").says("v1  verified");
}

#[test]
fn the_version_of_a_bundle_is_set_in_each_of_its_modules() {
    let env = with_bundle();
    env.run("keystore create up --app crossing --kind upload --common-name Up --algorithm rsa-2048").exit(0);
    env.run("sign crossing.aab --set-build 99 --set-version 3.1").exit(0).says("✓ crossing-3.1-99-store.aab");
    env.run("check crossing-3.1-99-store.aab --for store").exit(0).says("✓ Ready for the store");
    // one that another program made
    env.file("quayside.aab", &std::fs::read(data("samples/quayside-release.aab")).unwrap());
    env.run("sign quayside.aab --key up --set-build 100 --set-version 3.2")
        .exit(0)
        .says("quayside-3.2-100-store.aab");
    env.run("inspect quayside-3.2-100-store.aab").exit(0).says("3.2, version code 100").says("v1  verified");
}

#[test]
fn a_bundle_is_not_for_people_and_an_apk_not_for_the_store() {
    let env = with_bundle();
    env.run("sign crossing.aab --for direct")
        .exit(5)
        .says("people need an APK")
        .says("explain package-wanted");
    env.run("sign crossing.aab --schemes v1,v2").exit(5).says("a bundle is signed with v1 alone");
    env.run("sign crossing.aab --idsig").exit(5).says("scheme v4 stands on v2 or v3");
    env.run("sign crossing.aab").exit(0);
    env.run("check crossing-2.4.0-12-store.aab --for direct").exit(1).says("package-wanted").says("AAB");
    let debug = DemoBuild { debuggable: true, ..builds::crossing() };
    env.file("debug.aab", &debug.aab());
    env.run("sign debug.aab").exit(5).says("it is debuggable");
    env.run("check debug.aab --for store")
        .exit(1)
        .says("build-debuggable")
        .says("base/manifest/AndroidManifest.xml");
}

#[test]
fn a_changed_byte_in_a_bundle_is_found() {
    let env = with_bundle();
    env.run("sign crossing.aab").exit(0);
    let good = env.read("crossing-2.4.0-12-store.aab");
    let directory = builds::first(&good, b"PK\x01\x02");
    for at in [3, 200, 2_000, directory / 2, directory + 16, good.len() - 6] {
        let mut bytes = good.clone();
        bytes[at] ^= 4;
        env.file("changed.aab", &bytes);
        env.run("check changed.aab").exit_any(&[1, 3]);
    }
    let mut manifest = builds::crossing().aab();
    let at = builds::first(&manifest, b"base/manifest/AndroidManifest.xml") + 40;
    manifest[at] ^= 0xff;
    env.file("manifest.aab", &manifest);
    env.run("sign manifest.aab").exit_any(&[3]);
}

#[test]
fn the_samples_of_an_independent_signer_are_read_signed_and_verified() {
    let env = with_bundle();
    for name in ["quayside-release.aab", "quayside-signed.aab"] {
        env.file(name, &std::fs::read(data("samples").join(name)).unwrap());
    }
    let json = env.run("check quayside-signed.aab --format json").exit_either(0, 1).json();
    assert_eq!(json["android"]["schemes"][0]["verified"], true, "{json}");
    env.run("keystore create q --app quayside --common-name Q --algorithm rsa-2048").exit(0);
    env.run("sign quayside-release.aab").exit(0).says("quayside-0.4.0-4-store.aab");
    env.run("check quayside-0.4.0-4-store.aab --for store").exit(0).says("✓ Ready for the store");
    if has("javac", "-version") {
        let classes = env.folder().display().to_string();
        env.other(&format!("javac -d {classes} {}", data("independent/VerifyJar.java").display()));
        let said = env.other(&format!("java -cp {classes} VerifyJar quayside-0.4.0-4-store.aab"));
        assert!(said.contains("CN=Q"), "{said}");
    }
}
