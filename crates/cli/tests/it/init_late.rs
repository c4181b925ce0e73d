//! `init` that fails late, and `init` beside a cabinet that is there.

use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn beside_a_cabinet_that_is_there_the_project_file_alone_is_made() {
    let env = TestEnv::with_key(PROGRAM);
    std::fs::remove_file(env.path("ninekeys.toml")).unwrap();
    let before = env.read("ninekeys.cabinet");
    env.run("init --title Again").exit(0).says("✓ ninekeys.cabinet   was there, described by ninekeys.toml");
    assert_eq!(env.read("ninekeys.cabinet"), before);
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    assert!(text.contains("pin = { cabinet = \""), "{text}");
    env.run("cabinet status --prove --unlock-file unlock.txt").exit(0).says("1 key");
}

#[cfg(unix)]
#[test]
fn a_failure_at_any_size_of_disk_leaves_a_cabinet_that_opens_or_nothing() {
    for blocks in (0..130).step_by(2) {
        let env = TestEnv::new(PROGRAM);
        let limited =
            format!("trap '' XFSZ; ulimit -f {blocks}; exec {PROGRAM} init --new-unlock-file u.txt");
        let mut shell = std::process::Command::new("bash");
        shell.args(["-c", &limited]).current_dir(env.folder()).env_clear().env("HOME", env.home());
        let output = shell.env("NINEKEYS_NOW", testkit::NOW).output().unwrap();
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        if output.status.success() {
            env.run("cabinet status --prove").exit(0);
            continue;
        }
        assert_eq!(output.status.code(), Some(3), "{blocks} blocks: {said}");
        assert!(
            env.files().is_empty(),
            "{blocks} blocks: {:?} {said}",
            env.files().iter().map(|f| &f.0).collect::<Vec<_>>()
        );
        env.run("init --new-unlock-file u.txt").exit(0);
        env.run("cabinet status --prove").exit(0);
    }
}
