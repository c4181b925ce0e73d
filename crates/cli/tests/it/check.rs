use crate::PROGRAM;
use testkit::{TestEnv, builds};

#[test]
fn a_clean_check_is_one_line_and_silent_when_asked() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    env.file("higher.apk", &builds::crossing_code(13).apk());
    env.run("sign higher.apk --to next").exit(0);
    let toml = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let toml = toml.replace("title = \"Crossing\"", "title = \"Crossing\"\nversion = \"2.4.0\"");
    env.file("ninekeys.toml", toml.as_bytes());
    let said = env.run("check next/crossing-2.4.0-13-direct.apk --for direct").exit(0);
    insta::assert_snapshot!(said.stdout, @"✓ Ready for direct release   27 rules looked at, all fine     Crossing 2.4.0 (13) · android APK · 0.3 MiB · crossing-2.4.0-13-direct.apk");
    let said = env.run("check -q next/crossing-2.4.0-13-direct.apk --for direct").exit(0);
    assert_eq!(said.stdout + &said.stderr, "");
}

#[test]
fn findings_have_rule_expected_found_place_and_remedy() {
    let env = TestEnv::with_project(PROGRAM);
    env.file("quayside-debug.apk", &builds::quayside_debug().apk());
    let said = env.run("check quayside-debug.apk").exit(1);
    insta::assert_snapshot!(said.stdout);
    let json = env.run("check quayside-debug.apk --format json").exit(1).json();
    assert_eq!(json["schema"], "ninekeys.check/1");
    let finding = &json["verdict"]["findings"][2];
    assert_eq!(finding["rule"], "build-debuggable");
    assert_eq!((&finding["level"], &finding["where"]), (&"error".into(), &"AndroidManifest.xml".into()));
}

#[test]
fn a_build_alone_is_checked_and_says_what_it_was_not_compared_with() {
    let signed = TestEnv::with_key(PROGRAM);
    signed.run("sign crossing.apk").exit(0);
    let env = TestEnv::new(PROGRAM);
    env.file("alone.apk", &signed.read("crossing-2.4.0-12-direct.apk"));
    let said = env.run("check alone.apk").exit(0);
    said.says("✓ Ready").says("there is no project file").says("there is no cabinet");
    assert_eq!(env.files().len(), 1, "nothing is made beside it");
}

#[test]
fn flags_dates_names_and_numbers_are_compared() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    let file = "crossing-2.4.0-12-direct.apk";
    env.run(&format!("check {file} --above 12")).exit(1).says("above 12, as asked for");
    env.run(&format!("check {file} --app quayside")).exit(1).says("build-id-mismatch");
    env.run(&format!("check {file} --app nowhere")).exit(2);
    let toml = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let stricter = toml.replace("# target-sdk = 35 ", "target-sdk = 36 ");
    let stricter = stricter.replace("title = \"Crossing\"", "title = \"Crossing\"\nversion = \"2.5.0\"");
    env.file("ninekeys.toml", stricter.as_bytes());
    env.run(&format!("check {file}")).exit(1).says("target-sdk-too-low").says("build-version-mismatch");
    env.file("ninekeys.toml", toml.as_bytes());
    env.file("crossing-9.9-99-direct.apk", &env.read(file));
    env.run("check crossing-9.9-99-direct.apk").exit(0).says("build-name-mismatch");
    env.run(&format!("check {file} --at 2061-05-01"))
        .exit(0)
        .says("identity-expires-soon")
        .says("in 18 days");
    env.run(&format!("check {file} --at 2061-06-01")).exit(1).says("identity-expired");
    env.run(&format!("check {file} --at 2031-05-18")).exit(1).says("identity-not-yet-valid");
}

#[test]
fn a_changed_byte_of_what_is_signed_is_never_clean() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    let good = env.read("crossing-2.4.0-12-direct.apk");
    let block = builds::last(&good, b"APK Sig Block 42");
    let directory = builds::first(&good, b"PK\x01\x02");
    let places = [0, 40, 200, 5_000, directory / 2, block - 4_000, directory + 12, good.len() - 5];
    for at in places {
        let mut bytes = good.clone();
        bytes[at] ^= 0x10;
        env.file("changed.apk", &bytes);
        let ran = env.command(["check", "changed.apk"]).output().unwrap();
        let code = ran.status.code().unwrap();
        assert!(code == 1 || code == 3, "byte {at}: exit {code}\n{}", String::from_utf8_lossy(&ran.stdout));
    }
}

#[test]
fn a_build_signed_by_another_key_is_an_error_with_the_right_key() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    let other = TestEnv::with_key(PROGRAM);
    other.run("sign crossing.apk").exit(0);
    env.file("theirs.apk", &other.read("crossing-2.4.0-12-direct.apk"));
    // where it goes is not said: a stranger's build is nothing to be signed
    env.run("check theirs.apk").exit(1).says("signer-changed").is_silent_on("ninekeys sign");
    env.run("check theirs.apk --for direct")
        .exit(1)
        .says("signer-changed")
        .says("ninekeys sign theirs.apk --key crossing-signing --for direct");
}

#[test]
fn several_builds_are_checked_at_once_with_one_verdict_each() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    env.file("quayside-debug.apk", &builds::quayside_debug().apk());
    let good = "crossing-2.4.0-12-direct.apk";
    let said = env.run(&format!("check {good} quayside-debug.apk {good}")).exit(1);
    said.says("✓ Ready").says("✗ Not ready").says("✗ 2 of 3 builds ready");
    env.run(&format!("check {good} nothing.apk quayside-debug.apk"))
        .exit(3)
        .says("1 of 3 builds ready")
        .says("no such file");
    let json = env.run(&format!("check {good} nothing.apk --format json")).exit(3).json();
    assert_eq!(json["schema"], "ninekeys.checks/1");
    assert_eq!(
        (&json["builds"][0]["check"]["ready"], &json["builds"][0]["build"]),
        (&true.into(), &good.into())
    );
    assert_eq!(json["builds"][1]["error"]["exit"], 3);
    let all: Vec<String> = (0..40).map(|_| good.to_owned()).collect();
    env.run(&format!("check {}", all.join(" "))).exit(0).says("40 of 40 builds ready");
}

#[test]
fn verdicts_are_written_as_sarif_and_junit() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    env.file("quay side.apk", &builds::quayside_debug().apk());
    let line = "check crossing-2.4.0-12-direct.apk 'quay side.apk' nothing.apk";
    let sarif = env.run(&format!("{line} --format sarif")).exit(3).json();
    assert_eq!(sarif["version"], "2.1.0");
    let run = &sarif["runs"][0];
    let rules = run["tool"]["driver"]["rules"].as_array().unwrap();
    let results = run["results"].as_array().unwrap();
    assert!(results.len() >= 3, "{results:?}");
    for result in results {
        let index = usize::try_from(result["ruleIndex"].as_u64().unwrap()).unwrap();
        assert_eq!(rules[index]["id"], result["ruleId"]);
        let file = &result["locations"][0]["physicalLocation"]["artifactLocation"]["uri"];
        assert_eq!(file, "quay%20side.apk");
    }
    assert_eq!(run["invocations"][0]["executionSuccessful"], false);
    let junit = env.run(&format!("{line} --format junit")).exit(3).stdout;
    insta::assert_snapshot!(junit.replace(&env.folder().display().to_string(), "FOLDER"));
    if testkit::has("python3", "--version") {
        env.file("out.xml", junit.as_bytes());
        let parse = "import xml.etree.ElementTree as t; r = t.parse('out.xml').getroot(); \
                     assert len(r) == 3 and len(r[0]) == int(r[0].get('tests')), r";
        let parsed =
            std::process::Command::new("python3").args(["-c", parse]).current_dir(env.folder()).status();
        assert!(parsed.unwrap().success());
    }
    env.run("inventory --format sarif").exit(2);
}

#[test]
fn the_tree_beside_a_package_is_verified_with_it() {
    let env = TestEnv::with_key(PROGRAM);
    for name in ["crossing-signed-v31-v4.apk", "crossing-signed-v31-v4.apk.idsig"] {
        env.file(name, &std::fs::read(testkit::data("samples").join(name)).unwrap());
    }
    let verified = |ran: testkit::Ran, wanted: bool| {
        let json = ran.exit_either(0, 1).json();
        let schemes = json["android"]["schemes"].as_array().unwrap().clone();
        let v4 = schemes.iter().find(|one| one["scheme"] == "v4").unwrap();
        assert_eq!(v4["verified"], wanted, "{json}");
    };
    verified(env.run("check crossing-signed-v31-v4.apk --format json"), true);
    let good = env.read("crossing-signed-v31-v4.apk.idsig");
    for at in [0, 9, 30, 200, good.len() / 2, good.len() - 1] {
        let mut bytes = good.clone();
        bytes[at] ^= 1;
        env.file("crossing-signed-v31-v4.apk.idsig", &bytes);
        verified(env.run("check crossing-signed-v31-v4.apk --format json"), false);
    }
    env.run("sign crossing.apk --idsig").exit(0).says("v2, v3, v4").says("direct.apk.idsig");
    verified(env.run("check crossing-2.4.0-12-direct.apk --format json"), true);
    env.run("check crossing-2.4.0-12-direct.apk --for direct").exit(0);
    // the tree of another package
    env.file("crossing-2.4.0-12-direct.apk.idsig", &good);
    env.run("check crossing-2.4.0-12-direct.apk")
        .exit(1)
        .says("signature-invalid")
        .says("its root is another");
    env.run("sign crossing.apk --idsig --to new").exit(0);
    env.run("sign crossing.apk --idsig --to new").exit(5).says("exists already");
    env.run("sign crossing.apk --idsig --to new --replace").exit(0);
}

#[test]
fn a_build_signed_for_two_places_is_ready_for_neither_by_its_bytes_alone() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk --for direct --to a").exit(0);
    env.run("sign crossing.apk --for development --to b").exit(0);
    assert!(env.read("a/crossing-2.4.0-12-direct.apk") == env.read("b/crossing-2.4.0-12-development.apk"));
    env.run("check a/crossing-2.4.0-12-direct.apk").exit(0).says("Ready for direct release");
    env.run("check b/crossing-2.4.0-12-development.apk").exit(0).says("Ready for development");
    std::fs::copy(env.path("a/crossing-2.4.0-12-direct.apk"), env.path("renamed.apk")).unwrap();
    env.run("check renamed.apk").exit_either(0, 1).is_silent_on("for development");
    let last = |line: &str| env.run(line).exit_either(0, 1).json()["last_release"]["destination"].clone();
    env.file("next.apk", &testkit::builds::crossing_code(13).apk());
    env.run("sign next.apk --for development --to b").exit(0);
    assert_eq!(last("check next.apk --format json"), "direct", "what was worked on is no release");
}

#[test]
fn an_ipa_is_checked_bundle_by_bundle_and_drawn_as_a_tree() {
    let env = crate::sign::with_ipa();
    env.run("sign crossing.ipa --for store").exit(0);
    let said = env.run("check crossing-2.4.0-12-store.ipa --for store --tree").exit(0);
    said.says("✓ Ready for the store").says("PlugIns/Share.appex").says("✓ library · signed by the same");
    let wrong = env.run("check crossing-2.4.0-12-store.ipa --for devices").exit(1);
    wrong
        .says("✗ Not ready for registered devices")
        .says("✗ profile-kind-wrong")
        .says("PlugIns/Share.appex  extension · example.gannetpoint.crossing.share");
    env.run("check crossing.ipa --for store")
        .exit(1)
        .says("✗ build-unsigned")
        .says("ninekeys sign crossing.ipa");
    let device = "check crossing-2.4.0-12-store.ipa --for store --device 00008120-000A1B2C3D4E5F60";
    env.run(device).exit(1).says("✗ profile-lacks-device");
    env.run("check crossing-2.4.0-12-store.ipa --device bridge").exit(2).says("no device called bridge");
    // a later build of the same version needs a higher number, one of a higher version does not
    env.run("sign crossing.ipa --for store --set-build 11").exit(5).says("build-number-not-higher");
    env.run("sign crossing.ipa --for store --set-build 1 --set-version 2.4.1").exit(0);
    env.run("sign crossing.ipa --for store --set-build 13").exit(0).says("version-not-higher");
}

#[test]
fn a_folder_is_checked_as_the_archive_of_it_is() {
    let env = crate::sign::with_ipa();
    env.run("sign crossing.ipa --for store").exit(0);
    env.other("unzip -q crossing-2.4.0-12-store.ipa -d out");
    env.run("check out/Payload/Crossing.app --for store").exit(0).says("✓ Ready for the store");
    std::fs::write(env.path("out/Payload/Crossing.app/PkgInfo"), b"APPLnone").unwrap();
    env.run("check out/Payload/Crossing.app --for store").exit(1).says("✗ resource-modified");
    env.run("check out/Payload --for store").exit(3);
}

#[test]
fn what_people_see_and_are_asked_for_is_held_against_the_project_file_on_both_sides() {
    let says = |env: &TestEnv, text: &str| {
        let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
        let title = "[app.crossing]\n";
        assert!(project.contains(title), "{project}");
        env.file("ninekeys.toml", project.replace(title, &format!("{title}{text}\n")).as_bytes());
    };
    let env = TestEnv::with_key(PROGRAM);
    env.file("crossing.apk", &std::fs::read(testkit::data("samples/crossing-release.apk")).unwrap());
    let check = "check crossing.apk --for direct";
    env.run(check).exit(1).is_silent_on("displayed-name-mismatch").is_silent_on("permissions-differ");
    says(&env, "displayed-name = \"Crossing Beta\"");
    env.run(check).exit(1).says("✗ displayed-name-mismatch").says("Crossing Beta");

    let env = crate::sign::with_ipa();
    says(&env, "displayed-name = \"Ferry\"");
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let side = "[app.crossing.ios]\n";
    let listed = project.replace(side, &format!("{side}permissions = [\"NSCameraUsageDescription\"]\n"));
    env.file("ninekeys.toml", listed.as_bytes());
    let found = env.run("check crossing.ipa --for store").exit(1);
    found.says("✗ displayed-name-mismatch").says("! permissions-differ").says("NSCameraUsageDescription");
    // what is set when signing is what is expected
    env.run("sign crossing.ipa --for store").exit(5).says("(displayed-name-mismatch)");
    env.run("sign crossing.ipa --for store --set-title Ferry").exit(0);
}

#[test]
fn the_store_is_asked_what_it_has_where_that_is_wanted() {
    use crate::upload::{ANDROID, IOS, ready};
    let (env, portal) = ready();
    env.run(&format!("check {ANDROID} --ask-store")).exit(0);
    env.run(&format!("upload {ANDROID}")).exit(0);
    env.run(&format!("upload {IOS}")).exit(0);
    // this very build is no other one
    env.run(&format!("check {ANDROID} --ask-store")).exit(0).is_silent_on("build-number-not-higher");
    // a build that no ledger here knows of is judged by what the store has
    let unsigned = env.run("check quay.apk --app quayside --ask-store").exit(1);
    unsigned
        .says("build-number-not-higher")
        .says("not above what the store has")
        .says("above 12, which the store has");
    env.run("check quay.apk --app quayside").exit(1).is_silent_on("which the store has");
    // a version that is live is closed
    crate::advance::review(&env, "crossing");
    let (env, portal) = crate::advance::later(env, portal, "2026-12-01T00:00:10Z");
    env.run("advance crossing-2.4.0-12-store.ipa --to everyone --new New. --yes").exit(0);
    let (env, portal) = crate::advance::later(env, portal, "2026-12-05T00:00:00Z");
    assert_eq!(
        env.run("deliveries --app crossing --format json").exit(0).json()["deliveries"][0]["stage"],
        "live"
    );
    env.run("sign crossing.ipa --for store --set-build 13").exit(0);
    let next = "crossing-2.4.0-13-store.ipa";
    env.run(&format!("check {next}")).exit(0).says("! version-closed").says("was given to everyone");
    let closed = env.run(&format!("check {next} --ask-store")).exit(1);
    closed.says("✗ version-closed").says("version 2.4.0 is live").says("2.4.1 or above");
    env.run("sign crossing.ipa --for store --set-version 2.3 --set-build 14").exit(0);
    env.run("check crossing-2.3-14-store.ipa --ask-store")
        .exit(1)
        .says("✗ version-not-higher")
        .says("above 2.4.0, which is live");
    env.run(&format!("check {IOS} --ask-store")).exit(0).is_silent_on("version-closed");
    env.run("explain version-closed").exit(0).says("takes no more");
    // the store holds the keys: what it says of them counts, whatever the project file says
    env.run("keystore create deck --app quayside --common-name Deck --algorithm rsa-2048").exit(0);
    env.run("keystore deposit --app quayside --yes").exit(0);
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let upload = text.lines().find(|line| line.starts_with("upload = ")).unwrap().to_owned();
    env.file("ninekeys.toml", text.replace(&upload, &format!("upload = \"{}\"", "11".repeat(32))).as_bytes());
    env.run(&format!("check {ANDROID}")).exit(1).says("signer-unknown");
    env.run(&format!("check {ANDROID} --ask-store")).exit(0).is_silent_on("signer-unknown");
    drop(portal);
    env.run(&format!("check {ANDROID} --ask-store")).exit(6).says("cannot be reached");
    env.run("check --app crossing --ask-store").exit(2);
}
