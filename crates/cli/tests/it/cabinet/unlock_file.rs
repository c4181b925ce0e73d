use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_cabinet_with_a_passphrase_gains_a_file_that_unlocks_it() {
    let env = TestEnv::new(PROGRAM);
    env.file("pass", b"brisk-lantern-oyster");
    env.run("init --title Ferries --passphrase-in pass").exit(0);
    env.run("keystore create k --common-name A --algorithm ec-p256 --passphrase-in pass").exit(0);
    env.run("cabinet unlock-file ci.txt").exit(4).says("--passphrase-in FILE");
    let json = env.run("cabinet unlock-file ci.txt --passphrase-in pass --format json").exit(0).json();
    assert_eq!(json["schema"], "ninekeys.cabinet-unlock-file/1");
    assert_eq!((&json["member"], &json["has_passphrase"]), (&"unlock-file".into(), &true.into()));
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        assert_eq!(env.path("ci.txt").metadata().unwrap().permissions().mode() & 0o777, 0o600);
    }
    env.run("cabinet status --prove --unlock-file ci.txt").exit(0).says("every seal opened");
    env.run("keystore export k --to k.p12 --note-password pw --unlock-file ci.txt").exit(0);
    env.run("cabinet unlock-file ci.txt --passphrase-in pass").exit(5).says("exists already");
    env.run("cabinet unlock-file more.txt --unlock-file ci.txt").exit(0).says("unlock-file-2");
}

#[test]
fn a_cabinet_without_a_passphrase_is_told_what_the_loss_of_its_file_means() {
    let env = TestEnv::new(PROGRAM);
    env.run("init --new-unlock-file unlock.txt")
        .exit(0)
        .says("when every unlock file is lost")
        .says("ninekeys cabinet passphrase");
    env.run("cabinet unlock-file more.txt").exit(0).says("when every unlock file is lost");
    env.file("new", b"quilted-harbour-anvil");
    env.run("cabinet passphrase --new-passphrase-in new").exit(0);
    // as docs/build-machines.md says: another passphrase takes nothing away from unlock files
    env.file("newer", b"brisk-lantern-oyster");
    env.run("cabinet passphrase --passphrase-in new --new-passphrase-in newer").exit(0);
    env.run("cabinet status --prove --unlock-file more.txt").exit(0).says("every seal opened");
    env.run("cabinet unlock-file third.txt").exit(0).is_silent_on("is lost");
}
