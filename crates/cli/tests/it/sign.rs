use crate::PROGRAM;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::zip::{Archive, Entry, Zip64};
use testkit::{TestEnv, builds};

#[test]
fn a_build_is_signed_named_checked_and_written_into_the_ledger() {
    let env = TestEnv::with_key(PROGRAM);
    let input = env.read("crossing.apk");
    let said = env.run("sign crossing.apk --for direct --to out/signed").exit(0);
    said.says("✓ out/signed/crossing-2.4.0-12-direct.apk").says("4 stored entries moved").says("all fine");
    assert_eq!(env.read("crossing.apk"), input, "the input is untouched");
    env.run("check out/signed/crossing-2.4.0-12-direct.apk --for direct")
        .exit(0)
        .says("✓ Ready for direct release");
    let ledger = env.run("releases --format json").exit(0).json();
    let release = &ledger["releases"][0];
    assert_eq!(release["file"], "crossing-2.4.0-12-direct.apk");
    assert_eq!((&release["number"], &release["version"]), (&"12".into(), &"2.4.0".into()));
    assert_eq!(release["signed_with"], "crossing-signing");
    env.run("show crossing-signing").exit(0).says("signed          crossing-2.4.0-12-direct.apk");
}

#[test]
fn the_same_input_key_and_time_give_the_same_bytes_for_rsa_and_ec() {
    let env = TestEnv::with_project(PROGRAM);
    env.file("crossing.apk", &builds::crossing().apk());
    for algorithm in ["rsa-2048", "rsa-4096", "ec-p256", "ec-p384"] {
        env.run(&format!("keystore create {algorithm} --common-name A --algorithm {algorithm}")).exit(0);
        for folder in ["one", "two"] {
            let to = format!("{algorithm}-{folder}");
            // a ledger of its own for each key, so that the signer never changes
            std::fs::create_dir(env.path(&to)).unwrap();
            for name in ["ninekeys.toml", "ninekeys.cabinet", "unlock.txt", "crossing.apk"] {
                let _ = std::fs::copy(env.path(name), env.path(&to).join(name));
            }
            let line = format!("sign {to}/crossing.apk --project {to} --to {to} --key {algorithm}");
            let mut command = env.command(line.split(' '));
            // on a machine that has not seen the other copies
            assert!(command.env_remove("HOME").output().unwrap().status.success(), "{line}");
        }
        let output = |folder: &str| env.read(&format!("{algorithm}-{folder}/crossing-2.4.0-12-direct.apk"));
        assert!(output("one") == output("two"), "{algorithm}: the bytes differ");
    }
}

#[test]
fn signing_what_was_signed_drops_the_old_signature_and_says_so() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk --to a").exit(0);
    let said = env.run("sign a/crossing-2.4.0-12-direct.apk --to b").exit(0);
    said.says("it was signed before; the old signature was dropped")
        .says("every stored entry stood where it belongs");
    let (a, b) = (env.read("a/crossing-2.4.0-12-direct.apk"), env.read("b/crossing-2.4.0-12-direct.apk"));
    assert!(a == b, "signing again gives the same bytes");
    let ledger = env.run("releases --format json").exit(0).json();
    assert_eq!(ledger["releases"].as_array().unwrap().len(), 1, "the same bytes are one release");
}

#[test]
fn an_output_is_replaced_only_when_told_so_and_never_the_input() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    let said = env.run("sign crossing.apk").exit(5);
    said.says("exists already").says("ninekeys sign crossing.apk --replace");
    env.run("sign crossing.apk --replace").exit(0);
    env.run("sign crossing-2.4.0-12-direct.apk --replace").exit(5).says("take the place of the build itself");
}

#[test]
fn what_must_not_go_out_is_refused_with_the_remedy() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create quayside-signing --app quayside --common-name A --algorithm ec-p256").exit(0);
    let base = builds::crossing();
    let cases = [
        ("debug.apk", builds::quayside_debug(), "it is debuggable", "explain build-debuggable"),
        ("test.apk", testkit_build(|b| b.test_only = true), "marked test-only", "explain build-test-only"),
        (
            "old.apk",
            testkit_build(|b| b.min_sdk = 17),
            "signatures with SHA-1",
            "explain signature-scheme-missing",
        ),
    ];
    for (name, build, why, next) in cases {
        env.file(name, &build.apk());
        for destination in ["direct", "store"] {
            let said = env.run(&format!("sign {name} --for {destination} --to out")).exit(5);
            said.says(why).says(next).says("changed   nothing");
        }
        assert!(!env.path("out").exists(), "{name}: no folder, no file");
    }
    assert!(!base.debuggable);
    env.run("sign debug.apk --for development --to out").exit(0).says("quayside-0.4.0-4-development.apk");
}

fn testkit_build(
    change: impl Fn(&mut ninekeys_core::demo::DemoBuild),
) -> ninekeys_core::demo::DemoBuild<'static> {
    let mut build = builds::crossing();
    change(&mut build);
    build
}

#[test]
fn app_key_and_destination_are_found_or_named() {
    let env = TestEnv::with_project(PROGRAM);
    env.file("crossing.apk", &builds::crossing().apk());
    env.run("sign crossing.apk")
        .exit(5)
        .says("the cabinet holds no signing key for crossing")
        .says("keystore create crossing-signing --app crossing --common-name NAME");
    env.run("keystore create c --app crossing --common-name A --algorithm ec-p256").exit(0);
    env.run("keystore create u --app crossing --kind upload --common-name A --algorithm ec-p256 --years 25")
        .exit(0);
    env.run("sign crossing.apk --app nowhere").exit(2).says("no app called nowhere");
    env.run("sign crossing.apk --for devices").exit(2).says("not for devices");
    env.run("sign crossing.apk --key c/c").exit(2).says("c/c is a key, not a keystore");
    let said = env.run("sign crossing.apk --for store").exit(0);
    said.says("signed with   u, certificate").says("bundle-wanted");
    env.run("sign crossing.apk --for direct").exit(0).says("signed with   c, certificate");
    let stranger = ninekeys_core::demo::DemoBuild { package: "example.stranger", ..builds::crossing() };
    env.file("stranger.apk", &stranger.apk());
    env.run("sign stranger.apk").exit(2).says("no app with the package example.stranger");
}

#[test]
fn a_version_code_that_is_not_higher_is_refused_for_the_store() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk --for store").exit(0);
    let mut other = builds::crossing();
    other.version = "2.4.1";
    env.file("same-code.apk", &other.apk());
    env.run("sign same-code.apk --for store").exit(5).says("build-number-not-higher");
    env.run("sign same-code.apk --for store --to new/folder").exit(5);
    assert!(!env.path("new").exists(), "no empty folder is left behind");
    assert!(!env.path("crossing-2.4.1-12-store.apk").exists());
    env.run("sign same-code.apk --for direct").exit(0);
    env.file("higher.apk", &builds::crossing_code(13).apk());
    env.run("sign higher.apk --for store").exit(0);
    env.run("check crossing-2.4.0-13-store.apk --for store")
        .exit(0)
        .says("code 13 is above 12 (the last release)");
    env.run("check crossing-2.4.0-12-store.apk --for store").exit(0);
}

#[test]
fn two_projects_of_one_cabinet_do_not_count_each_others_releases() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk --for store").exit(0);
    let project = "title = \"Other\"\ncabinet = \"../ninekeys.cabinet\"\nunlock-file = \"../unlock.txt\"\n\n\
                   [app.crossing]\ntitle = \"Crossing\"\nandroid = { package = \"example.other\", destinations = [\"store\"] }\n";
    env.file("other/ninekeys.toml", project.as_bytes());
    let build = ninekeys_core::demo::DemoBuild { package: "example.other", code: 3, ..builds::crossing() };
    env.file("other.apk", &build.apk());
    // an app of the same name and another package: code 3 is not compared with 12
    env.run("sign other.apk --project other --to other").exit(0).says("crossing-2.4.0-3-store.apk");
    env.run("sign other.apk --project other --to again").exit(0);
    let ledger = env.run("releases --format json").exit(0).json();
    assert_eq!(ledger["releases"].as_array().unwrap().len(), 2);
}

#[test]
fn schemes_are_chosen_as_long_as_no_device_is_left_out() {
    let env = TestEnv::with_key(PROGRAM);
    let old = ninekeys_core::demo::DemoBuild { min_sdk: 21, target_sdk: 29, ..builds::crossing() };
    env.file("old.apk", &old.apk());
    let new = ninekeys_core::demo::DemoBuild { min_sdk: 28, ..builds::crossing() };
    env.file("new.apk", &new.apk());
    for (build, schemes) in [
        ("old.apk", "v1"),
        ("old.apk", "v1,v2"),
        ("old.apk", "v1,v3"),
        ("crossing.apk", "v2"),
        ("crossing.apk", "v1,v2,v3"),
        ("new.apk", "v3"),
        ("new.apk", "v2,v3"),
    ] {
        let to = format!("{build}-{schemes}");
        let said = env.run(&format!("sign {build} --schemes {schemes} --to {to}")).exit(0);
        said.says(&format!("scheme        {}", schemes.replace(',', ", ")));
        let json = env.run(&format!("check {to}/crossing-2.4.0-12-direct.apk --format json")).exit(0).json();
        let found: Vec<&str> = json["android"]["schemes"]
            .as_array()
            .unwrap()
            .iter()
            .map(|s| s["scheme"].as_str().unwrap())
            .collect();
        assert_eq!(found.join(","), schemes, "{build}");
    }
    env.run("sign old.apk --schemes v2,v3 --to x").exit(5).says("devices below SDK 24").says("they need v1");
    env.run("sign crossing.apk --schemes v3 --to x").exit(5).says("devices from SDK 24 to 27");
    env.run("sign crossing.apk --schemes v1 --to x").exit(5).says("devices from SDK 30 on");
    env.run("sign crossing.apk --schemes v5 --to x").exit(2);
    env.run("sign old.apk --schemes v1 --idsig --to x").exit(5).says("scheme v4 stands on v2 or v3");
    assert!(!env.path("x").exists());
}

/// With identity, profiles and an unsigned build of Crossing for iOS.
pub(crate) fn with_ipa() -> TestEnv {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("profile import in/crossing-store.mobileprovision").exit(0);
    env.run("profile import in/crossing-share-store.mobileprovision").exit(0);
    env.file("crossing.ipa", ninekeys_core::demo::CROSSING_IPA);
    env.file("deckhand.ipa", ninekeys_core::demo::DECKHAND_IPA);
    env
}

#[test]
fn an_ipa_is_signed_with_the_identity_and_the_profiles_that_fit() {
    let env = with_ipa();
    let said = env.run("sign crossing.ipa --for store").exit(0);
    said.says("✓ crossing-2.4.0-12-store.ipa")
        .says("gp-distribution, certificate B0:ED:80…")
        .says("crossing-share-store-2026")
        .says("Share.appex: 5 entitlements")
        .says("4 executables")
        .says("all fine");
    let ledger = env.run("releases --format json").exit(0).json();
    let release = &ledger["releases"][0];
    assert_eq!((&release["platform"], &release["number"]), (&"ios".into(), &"12".into()));
    assert_eq!(release["signed_with"], "gp-distribution");
    env.run("check crossing-2.4.0-12-store.ipa --for store").exit(0).says("✓ Ready for the store");
    // what people wrote into the build stays, and the same again is the same
    let first = env.read("crossing-2.4.0-12-store.ipa");
    env.run("sign crossing.ipa --for store --to again").exit(0);
    assert!(env.read("again/crossing-2.4.0-12-store.ipa") == first);
    env.run("sign crossing.ipa --for store").exit(5).says("crossing-2.4.0-12-store.ipa exists already");
}

/// Lays an IPA's app out as a folder, its links and rights with it.
fn unpacked(env: &TestEnv, ipa: &str) {
    let path = env.path(ipa);
    let done = std::process::Command::new("unzip").arg("-q").arg(&path).current_dir(env.folder()).status();
    assert!(done.unwrap().success(), "unzip is there: .ci/run installs it");
}

#[test]
fn an_apps_folder_is_signed_as_a_folder() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    let env = with_ipa();
    unpacked(&env, "crossing.ipa");
    let app = env.path("Payload/Crossing.app");
    symlink("Info.plist", app.join("linked")).unwrap();
    env.file("Payload/Crossing.app/.DS_Store", b"rubbish");
    env.file("Payload/Crossing.app/helper.sh", b"#!/bin/sh\n");
    let rights = |path: &std::path::Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
    std::fs::set_permissions(app.join("helper.sh"), PermissionsExt::from_mode(0o750)).unwrap();
    let before = env.files();
    let said = env.run("sign Payload/Crossing.app --for store --set-build 13").exit(0);
    said.says("✓ crossing-2.4.0-13-store.app").says("4 executables").says("all fine");
    let out = env.path("crossing-2.4.0-13-store.app");
    assert_eq!(rights(&out.join("helper.sh")), 0o750);
    assert_eq!(std::fs::read_link(out.join("linked")).unwrap(), std::path::Path::new("Info.plist"));
    assert!(!out.join(".DS_Store").exists());
    env.run("check crossing-2.4.0-13-store.app --for store").exit(0).says("✓ Ready for the store");
    let after = env.files();
    let own = before.iter().filter(|(path, _)| path.starts_with("Payload/"));
    assert!(own.clone().count() > 5 && own.clone().all(|one| after.contains(one)), "the input is as it was");

    // the same again is the same, and known by what is in it
    env.run("sign Payload/Crossing.app --for store --set-build 13").exit(5).says("exists already");
    env.run("sign Payload/Crossing.app --for store --set-build 13 --replace")
        .exit(0)
        .is_silent_on("what had the name");
    let releases = env.run("releases --format json").exit(0).json();
    assert_eq!(releases["releases"].as_array().unwrap().len(), 1);
    assert_eq!(releases["releases"][0]["sha256"].as_str().unwrap().len(), 64);
    // what is not what was signed is set aside
    env.file("crossing-2.4.0-13-store.app/mine.txt", b"mine");
    env.run("check crossing-2.4.0-13-store.app --for store").exit(1).says("✗ resource-unsealed");
    env.run("sign Payload/Crossing.app --for store --set-build 13 --replace")
        .exit(0)
        .says("what had the name before is now");
    // and nothing is written into what is read
    env.run("sign Payload/Crossing.app --for store --to Payload/Crossing.app")
        .exit(5)
        .says("changed   nothing");
    env.run("sign Payload/Crossing.app --for store --to Payload/Crossing.app/new/inner").exit(5);
    std::os::unix::fs::symlink("Payload/Crossing.app", env.path("elsewhere")).unwrap();
    env.run("sign Payload/Crossing.app --for store --to elsewhere/new").exit(5);
    assert!(!app.join("crossing-2.4.0-12-store.app").exists() && !app.join("new").exists());
}

#[test]
fn what_an_app_needs_and_has_not_is_said_before_anything_is_done() {
    let env = TestEnv::with_identity(PROGRAM);
    env.file("crossing.ipa", ninekeys_core::demo::CROSSING_IPA);
    let before = env.files();
    env.run("sign crossing.ipa --for store")
        .exit(5)
        .says("(profile-missing)")
        .says("changed   nothing")
        .says("ninekeys prepare --app crossing --for store");
    assert_eq!(env.files(), before);
    env.run("profile import in/crossing-store.mobileprovision").exit(0);
    // its extension needs one of its own, whether the project file names it or not
    env.run("sign crossing.ipa --for store").exit(5).says("example.gannetpoint.crossing.share");
    env.run("sign crossing.ipa --for direct").exit(2).says("an iOS build is signed for store");
    env.run("sign crossing.ipa --for store --schemes v2").exit(2).says("--schemes is for builds for Android");
}

#[test]
fn entitlements_are_narrowed_to_what_is_declared_and_explained() {
    let env = with_ipa();
    let said = env.run("sign crossing.ipa --for store --explain").exit(0);
    said.says("✓ aps-environment = production").says("its profile grants it, and the app declares no other");
    let list = b"<plist version=\"1.0\"><dict><key>com.example.unknown</key><true/></dict></plist>";
    env.file("claims.plist", list);
    let line = "sign crossing.ipa --for store --set-build 13 --entitlements claims.plist --explain";
    env.run(line)
        .exit(0)
        .says("the app declares it, and its profile does not grant it")
        .says("its profile grants it, and the app does not declare it");
    env.file("claims.plist", b"no list");
    env.run("sign crossing.ipa --for store --to c --entitlements claims.plist").exit(3).says("claims.plist");
}

#[test]
fn ids_versions_and_names_are_set_in_the_app_and_in_what_is_inside_it() {
    let env = with_ipa();
    let said =
        env.run("sign crossing.ipa --for store --set-build 42 --set-version 2.5 --set-title Ferry").exit(0);
    said.says("✓ crossing-2.5-42-store.ipa");
    let seen = env.run("check crossing-2.5-42-store.ipa --format json").exit(0).json();
    let bundles = seen["ios"]["bundles"].as_array().unwrap();
    let of = |kind: &str| bundles.iter().find(|bundle| bundle["kind"] == kind).unwrap();
    assert_eq!((&of("app")["title"], &of("app")["number"]), (&"Ferry".into(), &"42".into()));
    assert_eq!((&of("extension")["version"], &of("extension")["number"]), (&"2.5".into(), &"42".into()));
    // what no device would take or show is refused, and the remedy is another line than was typed
    for (option, wrong) in [
        ("--set-version", "2/../x"),
        ("--set-title", "''"),
        ("--set-bundle-id", "../other"),
        ("--set-build", "x"),
    ] {
        env.run(&format!("sign crossing.ipa --for store {option} {wrong}")).exit(2);
    }
    env.file("crossing.apk", &builds::crossing().apk());
    env.run("app change crossing --package example.gannetpoint.crossing").exit(0);
    env.run("sign crossing.apk --for store --set-title Ferry")
        .exit(2)
        .says("--set-title is for builds for iOS")
        .says("next      ninekeys sign crossing.apk --for store\n");
    // an id that no profile is for is refused before any work
    env.run("sign crossing.ipa --app crossing --for store --set-bundle-id example.gannetpoint.other")
        .exit(5)
        .says("example.gannetpoint.other");
}

#[test]
fn the_version_of_a_package_is_set_and_whatever_else_is_in_it_stays() {
    let env = TestEnv::with_key(PROGRAM);
    env.file("crossing.apk", &std::fs::read(testkit::data("samples/crossing-release.apk")).unwrap());
    let line = "sign crossing.apk --app crossing --for store --set-build 4711 --set-version 2.5.0-rc1";
    env.run(line).exit(0).says("✓ crossing-2.5.0_rc1-4711-store.apk");
    let seen = env.run("inspect crossing-2.5.0_rc1-4711-store.apk --format json").exit(0).json().to_string();
    assert!(seen.contains("2.5.0-rc1") && seen.contains("4711"), "{seen}");
    // every other entry has the bytes that it had
    let old = env.read("crossing.apk");
    let new = env.read("crossing-2.5.0_rc1-4711-store.apk");
    let contents = |bytes: &Vec<u8>| {
        let archive = Archive::open(bytes, Zip64::Refuse, &Limits::USUAL).unwrap();
        let own = archive.entries.iter().filter(|entry| !entry.name.starts_with(b"META-INF/"));
        let read = |entry: &Entry| (entry.name_text(), archive.read(bytes, entry, &Limits::USUAL).unwrap());
        own.map(read).collect::<std::collections::BTreeMap<_, _>>()
    };
    let (old, new) = (contents(&old), contents(&new));
    assert_eq!(old.len(), new.len());
    let changed: Vec<&String> =
        old.iter().filter(|(name, bytes)| new[*name] != **bytes).map(|(name, _)| name).collect();
    assert_eq!(changed, ["AndroidManifest.xml"]);

    // what was signed before is said, although its block is not copied
    let again =
        "sign crossing-2.5.0_rc1-4711-store.apk --app crossing --for store --set-build 4712 --format json";
    let said = env.run(again).exit(0).json();
    assert_eq!(said["was_signed"], true, "{said}");
    for wrong in ["0", "1.2", "2147483648"] {
        let line = format!("sign crossing.apk --app crossing --for store --set-build {wrong}");
        env.run(&line)
            .exit(2)
            .says("a whole number from 1 to 2147483647")
            .says("above that of the last release");
    }
    env.run("sign crossing.apk --app crossing --for store --set-version ''")
        .exit(2)
        .says("next      ninekeys sign crossing.apk --app crossing --for store --set-version VERSION");
}

#[test]
fn parts_for_simulators_are_left_out_and_an_executable_without_room_is_refused() {
    let env = with_ipa();
    env.run("profile import in/deckhand-devices.mobileprovision").exit(0);
    let said = env.run("sign deckhand.ipa --for devices").exit(0);
    said.says("✓ deckhand-1.1.0-31-devices.ipa")
        .says("for a simulator (x86_64)")
        .says(".DS_Store and 1 more that a desktop system had left there");
    env.file("tight.ipa", &std::fs::read(testkit::data("samples/deckhand-tight-header.ipa")).unwrap());
    env.run("sign tight.ipa --for devices --to b")
        .exit(5)
        .says("8 bytes of room behind its load commands")
        .says("-headerpad");
    assert!(!env.path("b").exists());
}

#[test]
fn builds_of_both_platforms_are_signed_in_one_call() {
    let env = with_ipa();
    env.run("profile import in/deckhand-devices.mobileprovision").exit(0);
    env.run("app change deckhand --package example.gannetpoint.crossing").exit(0);
    env.run("keystore create crew --app deckhand --common-name A --algorithm ec-p256").exit(0);
    env.file("crew.apk", &builds::crossing().apk());
    let said = env.run("sign crossing.ipa deckhand.ipa --to out").exit(0);
    said.says("✓ out/crossing-2.4.0-12-store.ipa").says("✓ out/deckhand-1.1.0-31-devices.ipa");
    // one that is refused keeps the others from their names
    env.file("tight.ipa", &std::fs::read(testkit::data("samples/deckhand-tight-header.ipa")).unwrap());
    env.run("sign crossing.ipa tight.ipa --to none").exit(5).says("tight.ipa: ");
    assert!(!env.path("none").exists());
    env.run("sign crew.apk --for development --to out").exit(0).says("deckhand-2.4.0-12-development.apk");
}

#[test]
fn what_extensions_claim_can_be_expected_in_the_project_file() {
    let env = with_ipa();
    env.run("app change crossing --extension share=example.gannetpoint.crossing.share").exit(0);
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let says = |values: &str| {
        let table = format!("[app.crossing.ios.extension-entitlements.share]\n{values}\n");
        env.file("ninekeys.toml", format!("{project}\n{table}").as_bytes());
    };
    env.run("sign crossing.ipa --for store").exit(0);
    let file = "crossing-2.4.0-12-store.ipa";
    says("beta-reports-active = true");
    env.run(&format!("check {file} --for store")).exit(0);
    says("beta-reports-active = false");
    env.run(&format!("check {file} --for store"))
        .exit(1)
        .says("than the project file expects")
        .says("Share.appex");
    says("\"com.example.unknown\" = \"x\"");
    let said = env.run(&format!("check {file} --for store")).exit_either(0, 1);
    said.says("it does not claim com.example.unknown, which the project file expects");
    // a name that is none is no setting
    let table = "[app.crossing.ios.extension-entitlements.shore]\nx = true\n";
    env.file("ninekeys.toml", format!("{project}\n{table}").as_bytes());
    env.run("board").exit(3).says("speak of shore, and it has no extension of that name");
    // what is declared there and granted is claimed
    says("\"keychain-access-groups\" = [\"GPFERRY009.example.gannetpoint.shared\"]");
    env.run("sign crossing.ipa --for store --set-build 13 --explain").exit(0);
    let seen = env.run("check crossing-2.4.0-13-store.ipa --for store --format json").exit(0).json();
    let share =
        seen["ios"]["bundles"].as_array().unwrap().iter().find(|one| one["kind"] == "extension").unwrap();
    assert_eq!(share["entitlements"]["keychain-access-groups"], "GPFERRY009.example.gannetpoint.shared");
}

#[test]
fn what_could_have_signed_and_did_not_is_told_with_the_reason() {
    let env = with_ipa();
    env.run("identity import in/distribution-2025.p12 --name old --password-in pw").exit(0);
    env.run("profile import in/crossing-store-expired.mobileprovision").exit(0);
    let said = env.run("sign crossing.ipa --for store --explain").exit(0);
    said.says("not taken").says("old · ").says("it has ended");
    let json = env.run("sign crossing.ipa --for store --to b --format json").exit(0).json();
    let over = json["ios"]["passed_over"].as_array().unwrap();
    assert!(over.iter().any(|one| one["name"] == "old" && one["bundle_id"].is_null()), "{json}");
}
