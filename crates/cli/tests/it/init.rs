use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_cabinet_and_a_project_file_are_made_for_their_owner() {
    let env = TestEnv::new(PROGRAM);
    env.file("pass", b"brisk-lantern-oyster\n");
    let said = env.run("init --title 'Gannet Point Ferries' --team GPFERRY009 --passphrase-in pass").exit(0);
    said.says("✓ ninekeys.cabinet").says("unlocked by   the passphrase").says("ninekeys app add");
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    assert!(project.contains("title = \"Gannet Point Ferries\"\nteam = \"GPFERRY009\"\n"), "{project}");
    assert!(!project.contains("brisk"), "no secret in the project file");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let mode = env.path("ninekeys.cabinet").metadata().unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }
    env.run("cabinet status --prove --passphrase-in pass").exit(0).says("every seal opened");
}

#[test]
fn an_existing_cabinet_or_project_is_refused_and_left_alone() {
    let env = TestEnv::with_project(PROGRAM);
    let before = env.files();
    env.run("init --new-unlock-file other.txt").exit(5).says("there is a ninekeys.toml here already");
    std::fs::remove_file(env.path("ninekeys.toml")).unwrap();
    env.run("init --new-unlock-file other.txt")
        .exit(5)
        .says("ninekeys.cabinet")
        .says("next      ninekeys init");
    assert!(!env.path("other.txt").exists());
    assert_eq!(env.files().len(), before.len() - 1);
}

#[test]
fn without_terminal_and_passphrase_the_missing_option_is_named() {
    let env = TestEnv::new(PROGRAM);
    env.run("init").exit(2).says("there is no terminal to ask on").says("init --passphrase-in FILE");
    assert!(env.files().is_empty());
}

#[test]
fn a_passphrase_that_is_short_or_guessable_is_refused() {
    let env = TestEnv::new(PROGRAM).variable("NINEKEYS_PASSPHRASE", "ferry");
    env.run("init").exit(5).says("at least 6 characters");
    assert!(env.files().is_empty());
    let env = TestEnv::new(PROGRAM).variable("NINEKEYS_PASSPHRASE", "password1");
    env.run("init").exit(5).says("a program would guess this passphrase").says("four words");
    assert!(env.files().is_empty());
    let env = TestEnv::new(PROGRAM).variable("NINEKEYS_PASSPHRASE", "brisk-lantern-oyster");
    env.run("init").exit(0).says("the passphrase");
}

#[test]
fn the_portal_and_its_roots_are_written_into_the_project_file_when_they_can_be_what_they_are_said_to_be() {
    let env = TestEnv::new(PROGRAM);
    env.file("pass", b"brisk-lantern-oyster\n");
    env.file("root.pem", &std::fs::read(testkit::data("samples/ios/root.pem")).unwrap());
    let init = "init --title Ferries --passphrase-in pass";
    env.run(&format!("{init} --portal ftp://portal.example")).exit(2).says("is no address of a portal");
    env.run(&format!("{init} --portal https://portal.example")).exit(2).says("does not pin its certificate");
    env.run(&format!("{init} --root pass")).exit(3).says("pass");
    assert!(!env.path("ninekeys.toml").exists() && !env.path("ninekeys.cabinet").exists());
    env.run(&format!("{init} --portal http://127.0.0.1:4711 --root root.pem")).exit(0);
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    assert!(project.contains("portal = \"http://127.0.0.1:4711\"\nroots = [\"root.pem\"]\n"), "{project}");
    env.run("board").exit(0);
}
