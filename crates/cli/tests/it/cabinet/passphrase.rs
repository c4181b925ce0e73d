use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_new_passphrase_opens_and_the_old_one_does_not() {
    let env = TestEnv::new(PROGRAM);
    env.file("old", b"brisk-lantern-oyster");
    env.file("new", b"quilted-harbour-anvil");
    env.file("short", b"abc");
    env.run("init --passphrase-in old").exit(0);
    env.run("cabinet passphrase --passphrase-in old --new-passphrase-in short").exit(5).says("at least 6");
    env.run("cabinet passphrase --passphrase-in new --new-passphrase-in new").exit(4);
    env.run("cabinet passphrase --passphrase-in old").exit(2).says("--new-passphrase-in FILE");
    env.run("cabinet passphrase --passphrase-in old --new-passphrase-in new")
        .exit(0)
        .says("opens nothing now")
        .says("copies made before still open with the old one");
    env.run("cabinet status --prove --passphrase-in old").exit(4);
    env.run("cabinet status --prove --passphrase-in new").exit(0);
}

#[test]
fn a_passphrase_can_be_added_beside_an_unlock_file_and_history_tells() {
    let env = TestEnv::with_project(PROGRAM);
    env.file("new", b"quilted-harbour-anvil");
    env.run("cabinet passphrase --new-passphrase-in new")
        .exit(0)
        .says("is a new member")
        .says("do not open with it");
    std::fs::remove_file(env.path("unlock.txt")).unwrap();
    env.run("cabinet status --prove --passphrase-in new")
        .exit(0)
        .says("a passphrase")
        .says("an unlock file, may do everything");
    let history = env.run("cabinet history").exit(0);
    history.says("3 changes, unbroken").says("cabinet made").says("cabinet passphrase");
    history.is_silent_on("anvil");
}
