use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn what_came_in_by_mistake_goes_out_with_a_yes_or_when_a_backup_has_it() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create wrong --common-name W --algorithm ec-p256").exit(0);
    let before = env.read("ninekeys.cabinet");
    env.run("keystore take-out wrong")
        .exit(5)
        .says("no backup has the private keys of wrong")
        .says("ninekeys keystore take-out wrong --yes");
    assert_eq!(env.read("ninekeys.cabinet"), before);
    let json = env.run("keystore take-out wrong --yes --format json").exit(0).json();
    assert_eq!(json["taken"], serde_json::json!(["wrong", "wrong/wrong/certificate", "wrong/wrong"]));
    env.run("show wrong").exit(2).says("nothing in the cabinet is called `wrong`");
    env.run("cabinet status --prove").exit(0).says("every seal opened").says("1 key");
    // the name is free again, and once a backup has the keys nobody is asked
    env.run("keystore create wrong --common-name W --algorithm ec-p256").exit(0);
    env.run("cabinet backup copies").exit(0);
    env.run("keystore take-out wrong").exit(0).says("the last backup still has it");
    env.run("cabinet history --verify").exit(0).says("keystore take-out wrong");
}

#[test]
fn a_key_that_signed_a_release_or_stands_elsewhere_too_stays() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    let said = env.run("keystore take-out crossing-signing --yes").exit(0);
    said.says("stays").says("crossing-signing/crossing-signing");
    env.run("releases").exit(0).says("crossing-2.4.0-12-direct.apk");
    env.run("cabinet status --prove").exit(0).says("1 key");
}
