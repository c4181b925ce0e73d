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

#[test]
fn each_ios_side_tells_the_accounts_that_act_for_it() {
    let env = TestEnv::with_ios(PROGRAM);
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let more = "\n[account.island]\nemail = \"island@gannetpoint.example\"\nteam = \"ISLANDTM01\"\nrole = \"manager\"\n\n[account.crew]\nrole = \"developer\"\napps = [\"deckhand\"]\n";
    env.file("ninekeys.toml", format!("{project}{more}").as_bytes());
    env.run("app add isle --bundle-id example.gannetpoint.isle --for store --team ISLANDTM01").exit(0);
    let said = env.run("app list --format json").exit(0).json();
    let accounts = |app: &str| -> Vec<String> {
        let all = said["apps"].as_array().unwrap();
        let own = all.iter().find(|one| one["app"] == app).unwrap()["accounts"].as_array().unwrap();
        own.iter().map(|one| one["account"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(accounts("crossing"), ["releases"]);
    assert_eq!(accounts("deckhand"), ["crew", "releases"]);
    assert_eq!(accounts("isle"), ["island"]);
    env.run("app list").exit(0).says("manager, island@gannetpoint.example, ISLANDTM01");
}
