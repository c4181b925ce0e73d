use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn every_app_is_told_with_ids_destinations_and_keystores() {
    let env = TestEnv::with_key(PROGRAM);
    let said = env.run("app list").exit(0);
    said.says("2 apps").says("example.gannetpoint.crossing   direct, store").says("crossing-signing");
    let json = env.run("app list --format json").exit(0).json();
    assert_eq!(json["schema"], "ninekeys.app-list/1");
    let apps = json["apps"].as_array().unwrap();
    assert_eq!(apps[0]["app"], "crossing");
    assert_eq!(apps[0]["keystores"], serde_json::json!(["crossing-signing"]));
    assert_eq!(apps[1]["keystores"], serde_json::json!([]));
}

#[test]
fn a_project_without_apps_says_how_to_add_one() {
    let env = TestEnv::new(PROGRAM);
    env.run("init --new-unlock-file unlock.txt").exit(0);
    env.run("app list").exit(0).says("has no apps yet").says("ninekeys app add NAME");
}
