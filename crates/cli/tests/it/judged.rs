//! Android as a device judges it: who signed is a certificate, a package may have parts, and what lies beside a build has to
//! be its own.

use crate::PROGRAM;
use ninekeys_core::demo::{CROSSING, DemoBuild};
use ninekeys_formats::axml::Value;
use ninekeys_formats::axml::write::{Node, write};
use ninekeys_formats::manifest::id;
use ninekeys_formats::zip::write::Writer;
use testkit::{TestEnv, has};

/// Crossing's release with one byte of difference in its code.
fn crossing(code: u32) -> Vec<u8> {
    DemoBuild { code, ..CROSSING }.apk()
}

/// A part of Crossing, or its base when it needs parts.
fn part(split: Option<&str>, code: u32, needs: bool) -> Vec<u8> {
    let mut application = Node::new("application");
    if needs {
        application = application.platform(id::SPLIT_REQUIRED, "isSplitRequired", Value::Boolean(true));
    }
    let mut root = Node::new("manifest")
        .platform(id::VERSION_CODE, "versionCode", Value::Number(code))
        .platform(id::VERSION_NAME, "versionName", Value::Text("2.4.0".into()))
        .plain("package", CROSSING.package);
    if let Some(split) = split {
        root = root.plain("split", split);
    }
    let sdk = Node::new("uses-sdk").platform(id::MIN_SDK, "minSdkVersion", Value::Number(24)).platform(
        id::TARGET_SDK,
        "targetSdkVersion",
        Value::Number(35),
    );
    let manifest = write(&root.child(sdk).child(application));
    Writer::new().deflated("AndroidManifest.xml", &manifest).deflated("classes.dex", b"dex").finish()
}

#[test]
fn a_renewed_certificate_over_the_same_key_is_another_signer_everywhere() {
    if !has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_project(PROGRAM);
    env.file("pw", b"brisk-lantern\n");
    let openssl = |words: &str| env.other(&format!("openssl {words}"));
    openssl("req -x509 -newkey rsa:2048 -nodes -keyout a.key -out one.pem -subj /CN=one -days 20000");
    openssl("req -x509 -key a.key -out two.pem -subj /CN=two -days 20000");
    for name in ["one", "two"] {
        openssl(&format!(
            "pkcs12 -export -inkey a.key -in {name}.pem -name {name} -out {name}.p12 -passout file:pw"
        ));
    }
    env.run("keystore import one.p12 --app crossing --password-in pw")
        .exit(0)
        .is_silent_on("another certificate");
    env.file("crossing.apk", &crossing(12));
    env.file("next.apk", &crossing(13));
    env.run("sign crossing.apk --for direct").exit(0);
    // said when it comes in
    env.run("keystore import two.p12 --app crossing --password-in pw").exit(0).says(
        "crossing-2.4.0-12-direct.apk was signed with this key under another certificate: devices compare certificates",
    );
    // signing with it is refused, and the ledger says why
    let refused = env.run("sign next.apk --for direct --key two").exit(5);
    refused.says("the same key as earlier releases, under another certificate").says("signer-changed");
    env.run("sign next.apk --for direct --key one").exit(0);
    let ledger = env.run("releases --format json").exit(0).json();
    let fingerprint = env.run("inspect one.pem --format json").exit(0).json();
    let one = &fingerprint["content"]["certificates"][0]["sha256"];
    assert_eq!(&ledger["releases"][0]["signer_certificate"], one);
    // a build under the other certificate does not bear the name of the one that is held
    let other = TestEnv::with_project(PROGRAM);
    for file in ["pw", "two.p12", "next.apk"] {
        other.file(file, &env.read(file));
    }
    other.run("keystore import two.p12 --app crossing --password-in pw").exit(0);
    other.run("sign next.apk --for direct").exit(0);
    env.file("theirs.apk", &other.read("crossing-2.4.0-13-direct.apk"));
    env.run("check theirs.apk --for direct").exit(1).says("signer-changed");
    env.run("compare theirs.apk crossing-2.4.0-13-direct.apk")
        .exit(1)
        .says("✗ The same key, under another certificate");
}

#[test]
fn a_signer_is_shown_under_a_name_of_the_cabinet_only_with_its_certificate() {
    if !has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore export crossing-signing --to own.p12 --note-password pw").exit(0);
    env.other("openssl pkcs12 -in own.p12 -passin file:pw -nodes -nocerts -out own.key");
    env.other("openssl req -x509 -key own.key -out renewed.pem -subj /CN=renewed -days 20000");
    env.run("inspect renewed.pem")
        .exit(0)
        .says("no, but its key is, in crossing-signing under another certificate");
    let json = env.run("inspect renewed.pem --format json").exit(0).json();
    let certificate = &json["content"]["certificates"][0];
    assert_eq!(
        (&certificate["item"], &certificate["same_key_as"]),
        (&serde_json::Value::Null, &"crossing-signing".into())
    );
}

#[test]
fn parts_of_a_package_are_signed_and_checked_together_and_a_part_alone_says_so() {
    let env = TestEnv::with_key(PROGRAM);
    env.file("base.apk", &part(None, 12, true));
    env.file("arm.apk", &part(Some("config.arm64_v8a"), 12, false));
    let alone = env.run("sign arm.apk --for direct").exit(5);
    alone.says("it is the part config.arm64_v8a of a package, and does not run without its base");
    alone.says("next      ninekeys sign arm.apk --for direct OTHER-PARTS");
    env.run("sign base.apk --for direct").exit(5).says("it does not run without further parts (splits)");
    let before = env.files();
    assert!(!before.iter().any(|(name, _)| name.contains("direct")), "nothing was made");
    let said = env.run("sign base.apk arm.apk --for direct").exit(0);
    said.says("✓ crossing-2.4.0-12-direct.apk").says("✓ crossing-2.4.0-12-config.arm64_v8a-direct.apk");
    said.says("next          ninekeys check crossing-2.4.0-12-direct.apk crossing-2.4.0-12-config.arm64_v8a-direct.apk --for direct");
    let (base, arm) = ("crossing-2.4.0-12-direct.apk", "crossing-2.4.0-12-config.arm64_v8a-direct.apk");
    env.run(&format!("check {base} {arm}")).exit(0).says("✓ 2 of 2 builds ready");
    env.run(&format!("check {arm}")).exit(1).says("package-incomplete");
    env.run(&format!("check {base}")).exit(1).says("package-incomplete");
    let json = env.run("releases --format json").exit(0).json();
    let splits: Vec<&serde_json::Value> =
        json["releases"].as_array().unwrap().iter().map(|release| &release["split"]).collect();
    assert!(
        splits.contains(&&"config.arm64_v8a".into()) && splits.contains(&&serde_json::Value::Null),
        "{splits:?}"
    );
    // the parts of the next version are above their own last ones, and fit each other
    env.file("base.apk", &part(None, 13, true));
    env.file("arm.apk", &part(Some("config.arm64_v8a"), 13, false));
    let json = env.run("sign base.apk arm.apk --for direct --format json").exit(0).json();
    assert_eq!((&json["schema"], json["builds"].as_array().unwrap().len()), (&"ninekeys.signed/1".into(), 2));
    // of different versions, or of different signers, they are no package
    env.file("arm.apk", &part(Some("config.arm64_v8a"), 14, false));
    env.run("sign base.apk arm.apk --for direct --replace")
        .exit(5)
        .says("the parts of the package are of different versions");
    env.run(&format!("check crossing-2.4.0-13-direct.apk {arm}")).exit(1).says("code 13, and code 12 in");
    let other = TestEnv::with_key(PROGRAM);
    other.file("base.apk", &part(None, 12, true));
    other.file("arm.apk", &part(Some("config.arm64_v8a"), 12, false));
    other.run("sign base.apk arm.apk --for direct").exit(0);
    env.file(arm, &other.read(arm));
    env.run(&format!("check {base} {arm}")).exit(1).says("are not signed by the same signer");
}

#[test]
fn a_replaced_release_is_listed_as_replaced_and_counts_no_more() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk --for direct").exit(0);
    let mut changed = CROSSING.apk();
    let at = changed.windows(4).position(|window| window == [b'P', b'K', 1, 2]).unwrap();
    assert!(at > 0);
    changed = Writer::new().deflated("AndroidManifest.xml", &CROSSING.manifest()).finish();
    env.file("crossing.apk", &changed);
    env.run("sign crossing.apk --for direct").exit(5).says("exists already");
    env.run("sign crossing.apk --for direct --replace").exit(0);
    let json = env.run("releases --format json").exit(0).json();
    let replaced: Vec<bool> = json["releases"]
        .as_array()
        .unwrap()
        .iter()
        .map(|release| release["replaced"].as_bool().unwrap())
        .collect();
    assert_eq!(replaced, [false, true], "the newest first");
    assert_eq!(json["releases"][0]["replaces"], json["releases"][1]["sha256"]);
    let text = env.run("releases").exit(0);
    text.says("crossing-2.4.0-12-direct.apk  replaced");
    // the same content under other schemes is another file, and another release
    env.run("sign crossing.apk --for direct --schemes v2 --replace").exit(0);
    let other = env.run("releases --format json").exit(0).json();
    assert_eq!(other["releases"].as_array().unwrap().len(), 3, "{other}");
    assert_eq!(other["releases"][0]["schemes"], serde_json::json!(["v2"]));
    assert_eq!(other["releases"][1]["replaced"], true);
    // the very same bytes again replace nothing
    env.run("sign crossing.apk --for direct --schemes v2 --replace").exit(0);
    assert_eq!(env.run("releases --format json").exit(0).json()["releases"].as_array().unwrap().len(), 3);
    // and back to what was there before: a release of its own, the others replaced
    env.run("sign crossing.apk --for direct --replace").exit(0);
    let back = env.run("releases --format json").exit(0).json();
    let replaced: Vec<bool> = back["releases"]
        .as_array()
        .unwrap()
        .iter()
        .map(|release| release["replaced"].as_bool().unwrap())
        .collect();
    assert_eq!(replaced, [false, true, true, true], "{back}");
}

#[test]
fn an_idsig_goes_with_the_build_it_belonged_to_and_a_foreign_one_is_set_aside() {
    let env = TestEnv::with_key(PROGRAM);
    let (output, beside) = ("crossing-2.4.0-12-direct.apk", "crossing-2.4.0-12-direct.apk.idsig");
    env.run("sign crossing.apk --for direct --idsig").exit(0);
    assert!(env.path(beside).exists());
    // ours: it belonged to the build that was replaced
    let said = env.run("sign crossing.apk --for direct --schemes v2 --replace").exit(0);
    assert!(!env.path(beside).exists());
    said.is_silent_on("set aside");
    env.run(&format!("check {output}")).exit(0);
    // and so does one that another takes the place of
    env.run("sign crossing.apk --for direct --idsig --replace").exit(0);
    env.run("sign crossing.apk --for direct --idsig --replace --schemes v3,v2")
        .exit(0)
        .is_silent_on("replaced-");
    env.run(&format!("check {output}")).exit(0);
    env.run("sign crossing.apk --for direct --schemes v2 --replace").exit(0);
    // not ours: named, and out of the way
    env.file(beside, b"somebody's");
    let said = env.run("sign crossing.apk --for direct --replace").exit(0);
    said.says("crossing-2.4.0-12-direct.apk.idsig.replaced-");
    let kept: Vec<String> = env
        .files()
        .into_iter()
        .map(|(name, _)| name)
        .filter(|name| name.contains("idsig.replaced"))
        .collect();
    assert_eq!(kept.len(), 1, "{kept:?}");
    assert_eq!(env.read(&kept[0]), b"somebody's");
    env.run(&format!("check {output}")).exit(0);
    // where nothing comes of it, it stays where it is
    env.file(beside, b"another");
    env.run("sign crossing.apk --for direct").exit(5);
    assert_eq!(env.read(beside), b"another");
}

#[test]
fn a_damaged_key_is_not_imported_with_or_without_a_mac() {
    if !has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_project(PROGRAM);
    env.file("pw", b"brisk-lantern\n");
    env.other("openssl req -x509 -newkey rsa:2048 -nodes -keyout a.key -out a.pem -subj /CN=a -days 20000");
    env.other("openssl pkcs12 -export -inkey a.key -in a.pem -name a -out open.p12 -passout file:pw -keypbe NONE -certpbe NONE -nomac");
    env.other("openssl pkcs8 -topk8 -nocrypt -in a.key -outform DER -out a.der");
    let (whole, key) = (env.read("open.p12"), env.read("a.der"));
    let at = whole.windows(key.len()).position(|window| window == key).unwrap();
    let ours = |env: &TestEnv| env.run("cabinet status --format json").exit(0).json()["keys"].clone();
    let mut refused = 0;
    for offset in (60..key.len()).step_by(61) {
        let mut damaged = whole.clone();
        damaged[at + offset] ^= 4;
        env.file("damaged.p12", &damaged);
        let said = env.run("keystore import damaged.p12 --password-in pw").exit(3);
        said.says("changed   nothing");
        refused += 1;
    }
    assert!(refused > 15, "{refused} bytes of {}", key.len());
    assert_eq!(ours(&env), 0, "nothing was kept");
    // the whole one comes in, and what it lacks is said
    let said = env.run("keystore import open.p12 --password-in pw").exit(0);
    said.says("(PKCS#12, not encrypted)")
        .says("it has no MAC")
        .says("private keys stand in open.p12 as they are");
    said.says("until a backup is proved, it is the other copy").is_silent_on("delete");
    let json = env.run("keystore import open.p12 --name again --password-in pw --format json").exit(0).json();
    assert_eq!(
        (&json["authenticated"], &json["open_keys"], &json["keys"][0]["proved"]),
        (&false.into(), &true.into(), &true.into())
    );
}

#[test]
fn an_export_under_an_imported_password_says_who_may_know_it_and_an_empty_one_is_refused() {
    if !has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_project(PROGRAM).variable("EMPTY", "");
    env.other("openssl req -x509 -newkey rsa:2048 -nodes -keyout a.key -out a.pem -subj /CN=a -days 20000");
    env.file("weak", b"password1\n");
    env.other("openssl pkcs12 -export -inkey a.key -in a.pem -name a -out weak.p12 -passout file:weak");
    env.other("openssl pkcs12 -export -inkey a.key -in a.pem -name a -out empty.p12 -passout pass:");
    env.run("keystore import weak.p12 --password-in weak").exit(0);
    let said = env.run("keystore export weak --to out.p12").exit(0);
    said.says("it came with the keystore: others may know it")
        .says("it is easy to guess")
        .is_silent_on("nobody has seen it");
    // an empty variable is an empty password, and not one that is not set
    env.run("keystore import empty.p12 --password-variable EMPTY").exit(0);
    env.run("keystore import empty.p12 --name other --password-variable NOT_SET").exit(2).says("is not set");
    let refused = env.run("keystore export empty --to empty-out.p12").exit(5);
    refused.says("fewer than 6 characters");
    refused.says("ninekeys keystore export empty --to empty-out.p12 --random-password --note-password NOTE");
    assert!(!env.path("empty-out.p12").exists());
    env.run("keystore export empty --to empty-out.p12 --random-password --note-password made").exit(0);
}

#[test]
fn small_judgements() {
    let env = TestEnv::with_key(PROGRAM);
    // a destination that was asked for is kept
    env.run("app add deckhand --package example.gannetpoint.deckhand --for development").exit(0);
    assert!(
        String::from_utf8(env.read("ninekeys.toml")).unwrap().contains("destinations = [\"development\"]")
    );
    // a build to be worked on keeps its number
    env.run("sign crossing.apk --for development").exit(0);
    env.run("sign crossing.apk --for development --to again").exit(0).is_silent_on("build-number-not-higher");
    // blanks are no name and no title
    env.run("app add islander --package example.gannetpoint.islander --for direct --title ' '")
        .exit(2)
        .says("not blanks alone");
    TestEnv::new(PROGRAM).run("init --title ' ' --new-unlock-file u").exit(2).says("cannot be a title");
    env.run("keystore create blank --app quayside --common-name ' ' --algorithm ec-p256")
        .exit(2)
        .says("not blanks alone");
    env.run("keystore create blank --alias ' ' --app quayside --common-name a --algorithm ec-p256").exit(2);
    // a password for a key that is not there
    env.run("keystore export crossing-signing --to own.p12 --note-password pw").exit(0);
    let said =
        env.run("keystore import own.p12 --name own --password-in pw --key-password-in nobody=pw").exit(2);
    said.says("nobody");
}

#[test]
fn created_certificates_satisfy_a_strict_verifier() {
    if !has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_project(PROGRAM);
    for algorithm in ["rsa-2048", "ec-p256", "ec-p384"] {
        let name = format!("k-{algorithm}");
        env.run(&format!(
            "keystore create {name} --app crossing --common-name Ferries --algorithm {algorithm} --insist"
        ))
        .exit(0);
        env.run(&format!("keystore export {name} --as certificate-pem --to {name}.pem")).exit(0);
        let file = format!("{name}.pem");
        let said =
            env.other(&format!("openssl verify -x509_strict -attime 1937000000 -CAfile {file} {file}"));
        assert!(said.contains("OK"), "{said}");
        let text = env.other(&format!("openssl x509 -in {file} -noout -text"));
        assert!(
            text.contains("Version: 3 (0x2)") && text.contains("X509v3 Subject Key Identifier"),
            "{text}"
        );
    }
}

#[test]
fn compare_wants_all_signers_of_a_build() {
    let env = TestEnv::new(PROGRAM);
    let case = |name: &str| {
        let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../testkit/cases/builds");
        env.file(&format!("{name}.apk"), &std::fs::read(folder.join(format!("{name}__ready.apk"))).unwrap());
    };
    ["one-of-two-signers", "two-signers", "rotated-v3", "rotated-v31", "rotated-v3-to-another-key"]
        .into_iter()
        .for_each(case);
    env.run("compare one-of-two-signers.apk one-of-two-signers.apk").exit(0);
    env.run("compare two-signers.apk two-signers.apk").exit(0).says("✓ The same certificate");
    let said = env.run("compare one-of-two-signers.apk two-signers.apk").exit(1);
    said.says("✗ Only a part of the signers is the same");
    // the old key is the same, the newest is not
    env.run("compare rotated-v3.apk rotated-v31.apk").exit(0);
    let said = env.run("compare rotated-v3.apk rotated-v3-to-another-key.apk").exit(1);
    said.says("✗ Only a part of the signers is the same").says("✓ v2").says("· v3");
}

#[test]
fn a_build_that_carries_a_strangers_certificate_is_not_compared_as_his() {
    let env = TestEnv::new(PROGRAM);
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../testkit/cases/builds");
    let case = |name: &str| std::fs::read(folder.join(name)).unwrap();
    env.file("forged.apk", &case("a-strangers-signature__signature-invalid.apk"));
    env.file("true.apk", &case("v3-made-here__ready.apk"));
    let said = env.run("compare forged.apk true.apk").exit(1);
    said.says("✗ Not proved: a signature does not hold").says("its signature of scheme v3 does not hold");
    said.says("only the key can sign under it");
}

#[test]
fn a_name_that_is_not_utf_8_is_malformed_before_anything_is_signed() {
    let env = TestEnv::with_key(PROGRAM);
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../testkit/cases/builds");
    let bad = "archive-name-that-is-not-utf-8__archive-malformed+build-unsigned.apk";
    env.file("odd.apk", &std::fs::read(folder.join(bad)).unwrap());
    env.run("check odd.apk").exit(1).says("is not UTF-8");
    let before = env.files();
    env.run("sign odd.apk --app crossing --for direct").exit(3);
    assert_eq!(env.files(), before);
    // a signed one that is renamed afterwards
    env.file("crossing.apk", &DemoBuild { min_sdk: 21, ..CROSSING }.apk());
    env.run("sign crossing.apk --for direct").exit(0);
    let mut bytes = env.read("crossing-2.4.0-12-direct.apk");
    let name = b"assets/timetable.txt";
    let places: Vec<usize> =
        (0..bytes.len() - name.len()).filter(|at| &bytes[*at..*at + name.len()] == name).collect();
    places.iter().for_each(|at| bytes[*at + 7] = 0xff);
    env.file("renamed.apk", &bytes);
    env.run("check renamed.apk")
        .exit(1)
        .says("archive-malformed")
        .says("assets/\\xffimetable.txt is not UTF-8");
}

#[test]
fn a_store_of_certificates_alone_needs_no_password() {
    if !has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_project(PROGRAM);
    env.other("openssl req -x509 -newkey rsa:2048 -nodes -keyout a.key -out a.pem -subj /CN=a -days 20000");
    env.other("openssl x509 -in a.pem -outform DER -out a.der");
    let der = env.read("a.der");
    let mut store = vec![0xfe, 0xed, 0xfe, 0xed, 0, 0, 0, 2, 0, 0, 0, 1, 0, 0, 0, 2, 0, 4];
    store.extend(b"pier");
    store.extend([0; 8]);
    store.extend([0, 5]);
    store.extend(b"X.509");
    store.extend((der.len() as u32).to_be_bytes());
    store.extend(der);
    store.extend([0; 20]);
    env.file("trust.jks", &store);
    env.run("compare trust.jks a.pem").exit(0).says("✓ The same certificate");
    env.run("inspect trust.jks").exit(0).says("CN=a").says("SHA-256 with RSA");
}
