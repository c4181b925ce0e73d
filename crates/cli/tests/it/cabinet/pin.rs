use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_person_can_choose_the_older_one_by_its_identity() {
    let env = TestEnv::with_key(PROGRAM);
    let old = env.read("ninekeys.cabinet");
    env.run("keystore create later --common-name A --algorithm ec-p256").exit(0);
    env.file("ninekeys.cabinet", &old);
    let json = env.run("cabinet pin --format json").exit(0).json();
    let identity = json["identity"].as_str().unwrap();
    assert_eq!(json["pinned"], false);
    env.run(&format!("cabinet pin {}", &identity[..15])).exit(5).says("fewer than 16 digits");
    env.run("cabinet pin 0000000000000000").exit(5).says("that is not what was typed");
    env.run(&format!("cabinet pin {}", &identity[..16])).exit(0).says("is meant from now on");
    env.run("sign crossing.apk").exit(0);
}
