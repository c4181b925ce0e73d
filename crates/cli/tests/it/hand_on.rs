//! A build that goes to no store leaves in a folder that says what it is.

use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_package_leaves_with_its_hash_and_a_sheet() {
    let env = TestEnv::with_key(PROGRAM);
    env.file("crossing.apk", &testkit::builds::crossing().apk());
    env.run("sign crossing.apk --for direct").exit(0);
    let build = "crossing-2.4.0-12-direct.apk";
    let json = env.run(&format!("hand-on {build} --to out --format json")).exit(0).json();
    crate::formats::hold("hand-on", &json);
    assert_eq!(json["runs_on"]["from"], "Android SDK 24", "{json:#}");
    assert_eq!(env.read(&format!("out/{build}")), env.read(build));
    let checked = std::process::Command::new("sha256sum")
        .args(["--check", "SHA256SUMS"])
        .current_dir(env.path("out"))
        .output()
        .expect("sha256sum has to be there");
    assert!(checked.status.success(), "{checked:?}");
    let sheet = String::from_utf8(env.read("out/what-it-is.txt")).unwrap();
    assert!(sheet.starts_with("Crossing 2.4.0 (12), for "), "{sheet}");
    assert!(
        sheet.contains("every device from Android SDK 24 on") && sheet.contains("no end is known"),
        "{sheet}"
    );
    env.run("cabinet history").exit(0).says(&format!("hand-on of {build} for")).says("was handed on");
    env.run("releases").exit(0).says("direct · handed on");
    let releases = env.run("releases --format json").exit(0).json();
    assert_eq!(releases["releases"][0]["handed_on"], env.now());
    // what is there stays
    env.run(&format!("hand-on {build} --to out")).exit(5).says("has something in it");
    env.run(&format!("hand-on {build} --to other")).exit(0).says("until").says("no end is known");
    env.run("sign crossing.apk --for store --set-build 13").exit(0);
    let store = env.run("hand-on crossing-2.4.0-13-store.apk --to third").exit(2);
    store.says("is for the store, and goes there").says("ninekeys upload crossing-2.4.0-13-store.apk");
    env.run("hand-on crossing.apk --for direct --to third").exit(1).says("build-unsigned");
    env.run("hand-on nothing.apk --to third").exit(3);
    env.run("hand-on . --to third").exit(2);
    assert!(!env.path("third").exists());
}

#[test]
fn a_build_for_devices_names_them_and_its_end() {
    let (env, _portal) = crate::portal::connected();
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802F").exit(0);
    env.run("app change crossing --for devices --extension share=example.gannetpoint.crossing.share").exit(0);
    env.run("prepare --app crossing --for devices --yes").exit_any(&[0, 1]);
    env.file("crossing.ipa", ninekeys_core::demo::CROSSING_IPA);
    env.run("sign crossing.ipa --for devices").exit(0);
    let said = env.run("hand-on crossing-2.4.0-12-devices.ipa --to out").exit(0);
    said.says("Bridge").says("until");
    let sheet = String::from_utf8(env.read("out/what-it-is.txt")).unwrap();
    assert!(sheet.contains("these devices, and no other:"), "{sheet}");
    assert!(
        sheet.contains("Bridge  00008030-000A1B2C3D4E802F") && sheet.contains("runs until  20"),
        "{sheet}"
    );
}
