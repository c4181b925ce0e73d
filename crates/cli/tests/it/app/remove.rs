use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn an_app_goes_out_of_the_file_and_its_keys_stay() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    let before = env.read("ninekeys.toml");
    env.run("app remove crossing")
        .exit(5)
        .says("crossing-signing keep their keys")
        .says("ninekeys app remove crossing --yes");
    assert_eq!(env.read("ninekeys.toml"), before);
    env.run("app remove nobody --yes").exit(2).says("no app called nobody");
    let json = env.run("app remove crossing --yes --format json").exit(0).json();
    assert_eq!((&json["schema"], &json["releases"]), (&"ninekeys.app-remove/1".into(), &1.into()));
    assert_eq!(json["keystores"], serde_json::json!(["crossing-signing"]));
    env.run("inventory").exit(0).says("crossing-signing");
    env.run("releases").exit(0).says("crossing-2.4.0-12-direct.apk");
    env.run("app list").exit(0).is_silent_on("crossing");
}
