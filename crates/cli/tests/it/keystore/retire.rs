use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_retired_keystore_is_kept_and_not_picked_by_itself() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create second --app crossing --common-name B --algorithm ec-p256").exit(0);
    env.run("sign crossing.apk").exit(5).says("several keys for crossing").says("--key crossing-signing");
    env.run("keystore retire second").exit(0).says("retired").says("keystore retire second --back");
    env.run("sign crossing.apk").exit(0).says("signed with   crossing-signing");
    env.run("inventory").exit(0).says("retired");
    env.run("keystore retire second").exit(5).says("second is retired already");
    let json = env.run("keystore retire crossing-signing --format json").exit(0).json();
    assert_eq!((&json["schema"], &json["state"]), (&"ninekeys.keystore-retire/1".into(), &"retired".into()));
    assert_eq!(json["without_key"], serde_json::json!(["crossing"]));
    env.run("sign crossing.apk --replace").exit(5).says("holds no signing key for crossing");
    env.run("keystore retire crossing-signing --back").exit(0).says("in use again");
    env.run("sign crossing.apk --replace").exit(0);
}
