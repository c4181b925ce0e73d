//! The store holds the signing key: handed over, made there, or another app's; and what devices get then.

use crate::advance::later;
use crate::portal::{import_key, make_known};
use crate::upload::{ANDROID, ready};
use testkit::TestEnv;

/// The signing key of quayside, beside the upload key that it has.
fn signing(env: &TestEnv) {
    env.run("keystore create deck --app quayside --common-name Deck --algorithm rsa-2048").exit(0);
}

/// Another upload key of quayside, and `NAME.apk`, which was signed with it where no ledger speaks against it.
pub(crate) fn signed_elsewhere(env: &TestEnv, name: &str, number: u32) {
    let other = TestEnv::with_ios(crate::PROGRAM);
    other.run("app add quayside --package example.gannetpoint.crossing --for store").exit(0);
    other.file("quay.apk", &testkit::builds::crossing().apk());
    other
        .run(&format!(
            "keystore create {name} --app quayside --kind upload --common-name C --algorithm rsa-2048"
        ))
        .exit(0);
    other.run(&format!("sign quay.apk --app quayside --for store --set-build {number}")).exit(0);
    other.run(&format!("keystore export {name} --to key.p12 --note-password key.pw")).exit(0);
    env.file(&format!("{name}.apk"), &other.read(&format!("quayside-2.4.0-{number}-store.apk")));
    env.file("key.p12", &other.read("key.p12"));
    env.file("key.pw", &other.read("key.pw"));
    let import =
        format!("keystore import key.p12 --name {name} --password-in key.pw --app quayside --kind upload");
    env.run(&import).exit(0);
}

#[test]
fn a_key_in_a_file_is_handed_over_and_kept_nowhere() {
    let (env, _portal) = ready();
    signing(&env);
    env.run("keystore export deck --to deck.p12 --note-password deck.pw").exit(0);
    let own = env.run("show deck --format json").exit(0).json();
    env.run("keystore take-out deck --yes").exit(0);
    let deposit = "keystore deposit --app quayside --from deck.p12 --yes";
    env.run(deposit).exit(4).says("no terminal to ask for the password of deck.p12");
    env.run(&format!("{deposit} --password-in ninekeys.toml")).exit(4).says("password is wrong");
    env.run(&format!("{deposit} --alias other --password-in deck.pw")).exit(2).says("--alias deck");
    env.run("keystore deposit --app quayside --password-in deck.pw").exit(2).says("--from");
    let json = env.run(&format!("{deposit} --password-in deck.pw --format json")).exit(0).json();
    crate::formats::hold("keystore deposit", &json);
    assert_eq!(json["origin"].as_str(), Some("handed-over"));
    assert_eq!(json["signing"]["sha256"], own["parts"][0]["certificate"]["sha256"]);
    env.run("show deck").exit(2);
    env.run("cabinet history").exit(0).says("keystore deposit deck out of a file of quayside at the store");
}

#[test]
fn a_key_that_is_handed_over_signs_what_devices_get() {
    let (env, portal) = ready();
    signing(&env);
    // a bundle is refused before, and the check has said so
    env.file("quay.aab", &ninekeys_core::demo::CROSSING.aab());
    env.run("sign quay.aab --app quayside --for store --key quay --set-build 20").exit(0);
    let bundle = "quayside-2.4.0-20-store.aab";
    env.run(&format!("check {bundle}"))
        .exit(0)
        .says("enrolment-missing")
        .says("keystore deposit --app quayside");
    env.run(&format!("upload {bundle}"))
        .exit(6)
        .says("enrolment-missing")
        .says("ninekeys keystore deposit --app quayside");
    env.run("keystore deposit --app quayside")
        .exit(5)
        .says("The store signs quayside from now on")
        .says("--yes");
    let json = env.run("keystore deposit --app quayside --yes --format json").exit(0).json();
    crate::formats::hold("keystore deposit", &json);
    assert_eq!(
        (json["origin"].as_str(), json["known"].as_bool()),
        (Some("handed-over"), Some(false)),
        "{json:#}"
    );
    let own = env.run("show deck --format json").exit(0).json();
    assert_eq!(json["signing"]["sha256"], own["parts"][0]["certificate"]["sha256"]);
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    assert!(text.contains("[app.quayside.android.store-keys]"), "{text}");
    env.run("show deck").exit(0).says("quayside: the store signs with it what devices get");
    env.run("show quay").exit(0).says("quayside: the store takes builds that are signed with it");
    let again = env.run("keystore deposit --app quayside").exit(0);
    again.says("the store holds its signing key").says("handed over").says("SHA-1");
    env.run("cabinet history").exit(0).says("keystore deposit deck of quayside at the store");
    // the key travels encrypted, and lies in no file of ours
    env.run(&format!("check {bundle}")).exit(0).is_silent_on("enrolment-missing");
    env.run(&format!("upload {bundle}")).exit(0);
    env.run("sign quay.apk --app quayside --for store --set-build 21").exit(0);
    env.run("upload quayside-2.4.0-21-store.apk").exit(0);
    let (env, _portal) = later(env, portal, "2026-12-01T00:00:10Z");
    let said = env.run("deliveries --get 21 --to device.apk").exit(0);
    said.says("as the store signs it").says("ninekeys inspect device.apk");
    env.run("compare device.apk deck").exit(0).says("same certificate");
    env.run("compare device.apk quay").exit(1);
    env.run("check device.apk --app quayside --for direct").exit(0);
    env.run("deliveries --get 21 --to device.apk").exit(5).says("device.apk");
    let json = env.run("deliveries --get 21 --to device.apk --replace --format json").exit(0).json();
    crate::formats::hold("deliveries --get", &json);
    let digest = env.other("openssl dgst -sha256 -r device.apk");
    assert_eq!(json["output_sha256"].as_str(), digest.split(' ').next());
    // parts of a bundle are cut elsewhere
    env.run("deliveries --get 20 --to parts.apk").exit(6).says("package-wanted");
    assert!(!env.path("parts.apk").exists());
}

#[test]
fn whoever_has_not_the_upload_key_brings_nothing() {
    let (env, portal) = ready();
    signing(&env);
    signed_elsewhere(&env, "stray", 22);
    env.run("keystore deposit --app quayside --yes").exit(2).says("quay, stray").says("--upload quay");
    env.run("keystore deposit --app quayside --upload quay --yes").exit(0);
    env.run("sign quay.apk --app quayside --for store --key deck --set-build 20")
        .exit(5)
        .says("keys-swapped");
    let found = env.run("check stray.apk --app quayside --for store").exit(1);
    found.says("signer-unknown").says("(quay)").says("--key quay");
    env.run("sign quay.apk --app quayside --for store --key stray --set-build 23")
        .exit(5)
        .says("signer-unknown");
    // a colleague whose project file and ledger know nothing of it is told by the store
    let other = TestEnv::with_ios(crate::PROGRAM);
    other.file("portal/root.pem", &env.read("portal/root.pem"));
    other.file("portal/first-key.pem", &env.read("portal/first-key.pem"));
    make_known(&other, &portal);
    import_key(&other, &portal.said["first_key"], "owner");
    other.run("app add quayside --package example.gannetpoint.crossing --for store").exit(0);
    other.file("stray.apk", &env.read("stray.apk"));
    let refused = other.run("upload stray.apk --app quayside").exit(6);
    refused.says("signer-unknown").says("ninekeys explain signer-unknown");
}

#[test]
fn one_key_under_two_certificates_is_not_two_keys() {
    if !testkit::has("openssl", "version") {
        return;
    }
    let (env, _portal) = ready();
    env.run("app add pier --package example.gannetpoint.pier --for store --publish").exit(0);
    let openssl = |words: &str| env.other(&format!("openssl {words}"));
    openssl("req -x509 -newkey rsa:2048 -nodes -keyout a.key -out one.pem -subj /CN=one -days 9000");
    openssl("req -x509 -key a.key -out two.pem -subj /CN=two -days 9000");
    env.file("chosen", b"brisk-lantern\n");
    for (name, kind) in [("one", "signing"), ("two", "upload")] {
        openssl(&format!(
            "pkcs12 -export -inkey a.key -in {name}.pem -name {name} -out {name}.p12 -passout file:chosen"
        ));
        env.run(&format!("keystore import {name}.p12 --password-in chosen --app pier --kind {kind}")).exit(0);
    }
    let refused = env.run("keystore deposit --app pier --yes").exit(6);
    refused
        .says("keys-swapped")
        .says("the upload key is the signing key")
        .says("ninekeys explain keys-swapped");
}

#[test]
fn a_key_is_made_by_the_store_or_is_another_apps() {
    let (env, portal) = ready();
    env.run("app add pier --package example.gannetpoint.pier --for store --publish").exit(0);
    let none = env.run("keystore deposit --app pier --made-by-store --yes").exit(5);
    none.says("holds no upload key for pier").says("keystore create NAME --app pier --kind upload");
    env.run("keystore create pier --app pier --kind upload --common-name P --algorithm ec-p256").exit(0);
    env.run("keystore deposit --app pier --yes").exit(5).says("no signing key for pier");
    env.run("keystore deposit --app pier --key-of quayside --yes").exit(6).says("holds no signing key for");
    let warned = env.run("keystore deposit --app quayside --made-by-store").exit(5);
    warned.says("nobody else has it");
    let made = env.run("keystore deposit --app quayside --made-by-store --yes --format json").exit(0).json();
    assert_eq!(made["origin"], "made-by-store");
    // a key that the store has alone is missing nowhere
    let board = env.run("board --format json").exit(0).json();
    let row = board["rows"].as_array().unwrap().iter().find(|row| row["app"] == "quayside").unwrap();
    assert_eq!(row["cells"][0]["mark"], "in-use", "{row:#}");
    let warned = env.run("keystore deposit --app pier --key-of quayside").exit(5);
    warned.says("whoever gets hold of the key has both");
    let same = env.run("keystore deposit --app pier --key-of quayside --yes --format json").exit(0).json();
    assert_eq!(same["origin"]["of-app"], "example.gannetpoint.crossing");
    assert_eq!(same["signing"]["sha256"], made["signing"]["sha256"]);
    env.run(&format!("upload {ANDROID}")).exit(0);
    let (env, _portal) = later(env, portal, "2026-12-01T00:00:10Z");
    env.run("deliveries --get 12 --to device.apk").exit(0);
    let signer = env.run("inspect device.apk --format json").exit(0).stdout;
    assert!(signer.contains(made["signing"]["sha256"].as_str().unwrap()), "{signer}");
    env.run("app add dory --package example.gannetpoint.dory --for store").exit(0);
    env.run("keystore create dory --app dory --kind upload --common-name D --algorithm ec-p256").exit(0);
    let unknown = env.run("keystore deposit --app dory --made-by-store --yes").exit(6);
    unknown.says("record-missing").says("ninekeys app change dory --publish");
    env.run("app change dory --publish").exit(0);
    env.run("keystore deposit --app dory --made-by-store --yes").exit(0);
    env.run("keystore deposit --app crossing --yes").exit(2).says("no Android side");
    env.run("keystore deposit --app nothing").exit(2);
}
