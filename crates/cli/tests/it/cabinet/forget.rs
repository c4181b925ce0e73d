use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn it_is_locked_again_at_once() {
    let env = TestEnv::new(PROGRAM);
    env.file("pass", b"brisk-lantern-oyster");
    env.run("init --passphrase-in pass").exit(0);
    env.run("cabinet forget").exit(0).says("was not remembered");
    if env.run("cabinet remember 30m --passphrase-in pass").code() == 3 {
        return eprintln!("SKIPPED: this system keeps no credentials");
    }
    env.run("cabinet status --prove").exit(0);
    let json = env.run("cabinet forget --format json").exit(0).json();
    assert_eq!((json["forgotten"].as_bool(), json["path"].as_str()), (Some(true), Some("ninekeys.cabinet")));
    env.run("cabinet status --prove").exit(4).says("there is no terminal to ask");
    env.run("cabinet forget").exit(0).says("was not remembered");
}
