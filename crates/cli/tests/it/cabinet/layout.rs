use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_cabinet_of_layout_2_opens_and_signs_ever_after() {
    let env = TestEnv::new(PROGRAM);
    for name in ["ninekeys.cabinet", "ninekeys.toml", "unlock.txt"] {
        env.file(name, &std::fs::read(testkit::data("cases/layout-2").join(name)).unwrap());
    }
    env.file("crossing.apk", &testkit::builds::crossing_code(13).apk());
    env.run("cabinet status --prove").exit(0).says("every seal opened").says("2 keys");
    env.run("inventory").exit(0).says("crossing-signing").says("crossing-upload");
    env.run("sign crossing.apk").exit(0).says("signed with   crossing-signing");
    env.run("check crossing-2.4.0-13-direct.apk --for direct").exit(0);
    let json = env.run("check crossing-2.4.0-13-direct.apk --for direct --format json").exit(0).json();
    assert_eq!(json["last_release"]["number"], "12", "the old ledger is read");
}
