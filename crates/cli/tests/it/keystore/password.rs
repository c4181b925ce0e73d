use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn the_password_is_told_alone_and_the_history_says_so() {
    let env = TestEnv::with_key(PROGRAM);
    env.file("pw", b"brisk-lantern-oyster");
    env.run("keystore create own --common-name A --algorithm ec-p256 --password-in pw").exit(0);
    assert_eq!(env.run("keystore password own").exit(0).stdout, "brisk-lantern-oyster\n");
    let json = env.run("keystore password own --format json").exit(0).json();
    assert_eq!((&json["keystore"], &json["password"]), (&"own".into(), &"brisk-lantern-oyster".into()));
    env.run("cabinet history").exit(0).says("keystore password own").is_silent_on("brisk");
    // what it says opens what is exported
    env.run("keystore export own --to own.p12").exit(0);
    env.run("inspect own.p12 --password-in pw").exit(0).says("own");
    env.run("keystore password nobody").exit(2);
    std::fs::remove_file(env.path("unlock.txt")).unwrap();
    env.run("keystore password own").exit(4).says("--passphrase-in FILE").is_silent_on("brisk");
}
