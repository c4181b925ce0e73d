use crate::PROGRAM;
use testkit::TestEnv;

/// A cabinet that opens with a passphrase alone; nothing where this system keeps no credentials.
fn remembered(time: &str) -> Option<TestEnv> {
    let env = TestEnv::new(PROGRAM);
    env.file("pass", b"brisk-lantern-oyster");
    env.file("new", b"quilted-harbour-anvil");
    env.run("init --passphrase-in pass").exit(0);
    let ran = env.run(&format!("cabinet remember {time} --passphrase-in pass"));
    if ran.code() == 3 {
        eprintln!("SKIPPED: this system keeps no credentials");
        return None;
    }
    Some(env)
}

#[test]
fn what_unlocks_is_kept_until_then_and_only_where_it_was_asked_for() {
    let env = TestEnv::new(PROGRAM);
    env.file("pass", b"brisk-lantern-oyster");
    env.run("init --passphrase-in pass").exit(0);
    env.run("cabinet status --prove --passphrase-in pass").exit(0).is_silent_on("remembered");
    env.run("cabinet status --prove").exit(4).says("there is no terminal to ask");
    for (time, code) in [("0h", 2), ("8", 2), ("8x", 2), ("8d", 2), ("30m", 4)] {
        env.run(&format!("cabinet remember {time}")).exit(code).says("changed   nothing");
    }
    let Some(env) = remembered("8h") else { return };
    env.run("cabinet status --prove").exit(0).says("every seal opened").says("ninekeys cabinet forget");
    env.run("keystore create k --common-name A --algorithm ec-p256").exit(0);
    let status = env.run("cabinet status --format json").exit(0).json();
    assert_eq!(status["remembered_until"], "2031-05-19T20:00:00Z");
    // what is remembered does not prolong itself
    env.run("cabinet remember 2d").exit(4);
    let files = env.files();
    assert!(files.iter().all(|(name, _)| !name.contains("remember")), "it lies in no file of the folder");
    let home = testkit::files_below(env.home());
    assert!(home.iter().all(|(_, bytes)| !String::from_utf8_lossy(bytes).contains("PRIVATE KEY")));
    let later = env.at("2031-05-19T20:00:00Z");
    later.run("cabinet status --prove").exit(4);
    let again = later.at("2031-05-19T13:00:00Z");
    again.run("cabinet status --prove").exit(4).says("there is no terminal to ask");
}

#[test]
fn a_new_passphrase_makes_it_forget() {
    let Some(env) = remembered("8h") else { return };
    env.run("cabinet passphrase --passphrase-in pass --new-passphrase-in new").exit(0);
    env.run("cabinet status --prove").exit(4);
    env.run("cabinet forget").exit(0).says("was not remembered on this machine");
    env.run("cabinet remember --passphrase-in new --format json").exit(0);
    env.run("cabinet status --prove").exit(0);
    env.run("cabinet forget").exit(0);
}
