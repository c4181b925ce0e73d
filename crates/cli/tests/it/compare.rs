use crate::PROGRAM;
use ninekeys_formats::axml::Value;
use ninekeys_formats::axml::write::{Node, write};
use ninekeys_formats::manifest::id;
use ninekeys_formats::zip::write::Writer;
use testkit::{TestEnv, has};

#[test]
fn builds_keystores_certificates_and_items_are_compared_by_fingerprint() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create other --app quayside --common-name Ferries --algorithm ec-p256").exit(0);
    env.run("sign crossing.apk").exit(0);
    env.run("keystore export crossing-signing --as certificate-pem --to own.pem").exit(0);
    env.run("keystore export crossing-signing --to own.p12 --note-password pw").exit(0);
    let build = "crossing-2.4.0-12-direct.apk";
    let same = ["crossing-signing", "crossing-signing/crossing-signing", "own.pem", "own.p12", build];
    for one in same {
        for two in same {
            let said = env.run(&format!("compare {one} {two} --password-in pw")).exit(0);
            said.says("✓ The same certificate, and so the same key");
        }
        env.run(&format!("compare {one} other --password-in pw")).exit(1).says("✗ Not the same key");
    }
    let json = env.run(&format!("compare {build} crossing-signing --format json")).exit(0).json();
    assert_eq!((&json["schema"], &json["same"]), (&"ninekeys.compare/1".into(), &"certificate".into()));
    assert_eq!(json["one"]["keys"][0]["label"], "v2, v3");
}

#[test]
fn a_key_under_a_renewed_certificate_is_another_identity() {
    if !has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_project(PROGRAM);
    let openssl = |words: &str| env.other(&format!("openssl {words}"));
    openssl("req -x509 -newkey rsa:2048 -nodes -keyout a.key -out one.pem -subj /CN=one");
    openssl("req -x509 -key a.key -out two.pem -subj /CN=two");
    let said = env.run("compare one.pem two.pem").exit(1);
    said.says("✗ The same key, under another certificate").says("devices and stores compare certificates");
    env.file("pw", b"brisk-lantern\n");
    for name in ["one", "two"] {
        openssl(&format!(
            "pkcs12 -export -inkey a.key -in {name}.pem -name {name} -out {name}.p12 -passout file:pw"
        ));
        env.run(&format!("keystore import {name}.p12 --password-in pw")).exit(0);
    }
    // one private key is kept once, and each keystore has its own certificate of it
    env.run("compare one two").exit(1).says("✗ The same key, under another certificate");
    env.run("show two").exit(0).says("CN=two");
    let status = env.run("cabinet status --format json").exit(0).json();
    assert_eq!(status["keys"], 1, "{status}");
    env.run("keystore export two --to back.p12").exit(0);
    env.run("compare back.p12 two.pem --password-in pw").exit(0).says("same certificate");
}

#[test]
fn what_carries_no_key_and_what_is_not_there_says_so() {
    let env = TestEnv::with_key(PROGRAM);
    env.file("letter", b"dear release engineer");
    env.run("compare letter crossing-signing").exit(3).says("letter carries no key");
    env.run("compare crossing.apk crossing-signing").exit(3).says("crossing.apk carries no key");
    env.run("compare nowhere crossing-signing")
        .exit(3)
        .says("no file nowhere, and nothing in the cabinet either");
    env.run("keystore export crossing-signing --to own.p12 --note-password pw").exit(0);
    env.run("compare own.p12 crossing-signing").exit(4).says("shows its certificates only to its password");
    env.file("wrong", b"wrong-password");
    env.run("compare own.p12 crossing-signing --password-in wrong")
        .exit(4)
        .says("the store password is wrong");
    // a build whose signature does not hold carries a certificate, and nothing is proved by it
    env.run("sign crossing.apk").exit(0);
    let mut bytes = env.read("crossing-2.4.0-12-direct.apk");
    bytes[9_000] ^= 1;
    env.file("changed.apk", &bytes);
    let said = env.run("compare changed.apk crossing-signing").exit(1);
    said.says("✗ Not proved: a signature does not hold").says("its signature of scheme v2 does not hold");
    assert_eq!(
        env.run("compare crossing-signing changed.apk --format json").exit(1).json()["same"],
        "unproved"
    );
}

#[test]
fn apps_for_ios_are_compared_by_who_signed_them() {
    let env = crate::sign::with_ipa();
    env.run("sign crossing.ipa --for store").exit(0);
    env.run("sign crossing.ipa --for store --set-build 13").exit(0);
    env.run("compare crossing-2.4.0-12-store.ipa crossing-2.4.0-13-store.ipa").exit(0);
    env.run("compare crossing-2.4.0-12-store.ipa gp-distribution").exit(0);
    env.run("identity import in/distribution-2025.p12 --name old --password-in pw").exit(0);
    env.run("compare crossing-2.4.0-12-store.ipa old").exit(1);
    env.run("compare crossing.ipa gp-distribution").exit(3).says("crossing.ipa carries no key");
    env.run("compare crossing.ipa crossing.ipa")
        .exit(1)
        .says("Neither of the two is signed")
        .says("what people and devices see of it is the same")
        .says("what is in it has the same sizes");
}

#[test]
fn two_builds_are_compared_by_what_people_and_devices_see_of_them() {
    let env = crate::sign::with_ipa();
    env.run("sign crossing.ipa --for store").exit(0);
    let said = env.run("compare crossing.ipa crossing-2.4.0-12-store.ipa").exit(1);
    said.says("Only one of the two is signed")
        .says("new: production · example.gannetpoint.crossing")
        .says("Crossing share store 2026")
        .says("_CodeSignature/");
    env.run("sign crossing.ipa --for store --set-build 13 --set-title Ferry").exit(0);
    let json = env.run("releases --compare --format json").exit(0).json();
    let changes = json["comparisons"][0]["changes"].as_array().unwrap();
    assert_eq!(changes.len(), 1, "{json}");
    assert_eq!((&changes[0]["of"], &changes[0]["now"]), (&"title".into(), &"Ferry".into()));
    assert_eq!(json["comparisons"][0]["before"], "crossing-2.4.0-12-store.ipa");

    // on Android: what it asks for and the SDK it runs from
    env.file("one.apk", &asking(24, "android.permission.CAMERA"));
    env.file("two.apk", &asking(26, "android.permission.READ_CONTACTS"));
    env.run("compare one.apk two.apk")
        .exit(1)
        .says("android.permission.READ_CONTACTS  new: people are asked for it")
        .says("android.permission.CAMERA         no more")
        .says("was 24: who has less gets no update");
}

/// A package that asks people for something; its code and lowest SDK are one number.
pub(crate) fn asking(sdk: u32, permission: &str) -> Vec<u8> {
    let sdks = Node::new("uses-sdk").platform(id::MIN_SDK, "minSdkVersion", Value::Number(sdk)).platform(
        id::TARGET_SDK,
        "targetSdkVersion",
        Value::Number(35),
    );
    let root = Node::new("manifest")
        .plain("package", "example.gannetpoint.crossing")
        .platform(id::VERSION_CODE, "versionCode", Value::Number(sdk))
        .platform(id::VERSION_NAME, "versionName", Value::Text("2.4.0".into()))
        .child(sdks)
        .child(Node::new("uses-permission").platform(id::NAME, "name", Value::Text(permission.into())));
    Writer::new().deflated("AndroidManifest.xml", &write(&root)).finish()
}
